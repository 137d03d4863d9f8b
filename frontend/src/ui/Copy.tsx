import { useState } from "react";

/** A text that can be copied: a path, an address, a command. */
export function Copy({ text, label }: { text: string; label: string }) {
  const [done, setDone] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setDone(true);
    setTimeout(() => setDone(false), 1500);
  };
  return (
    <button
      type="button"
      onClick={copy}
      className="cursor-pointer text-sm text-faint underline decoration-line underline-offset-3 hover:text-ink"
      aria-label={`Copy ${label}`}
    >
      {done ? "copied" : "copy"}
    </button>
  );
}
