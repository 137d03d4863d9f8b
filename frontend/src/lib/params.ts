import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** Puts one value into the address, and takes it out where it is empty. What is typed replaces. */
export function usePut(): (key: string, value: string, replace?: boolean) => void {
  const [, setParams] = useSearchParams();
  return useCallback(
    (key, value, replace = false) => {
      // From the address itself: two changes in a row would else both start from the same render.
      const next = new URLSearchParams(window.location.search);
      if (value) next.set(key, value);
      else next.delete(key);
      setParams(next, { replace });
    },
    [setParams],
  );
}
