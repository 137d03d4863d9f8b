import { useEffect } from "react";

/** Whether keys that are typed belong to a text field. */
function typing(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName);
}

/** Runs an action when a plain key is pressed outside text fields. */
export function useKey(key: string, action: () => void) {
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (event.key !== key || event.ctrlKey || event.metaKey || event.altKey) return;
      if (typing(event.target)) return;
      event.preventDefault();
      action();
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [key, action]);
}
