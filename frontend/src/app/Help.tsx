import { useCallback, useEffect, useRef } from "react";
import { useKey } from "../lib/keyboard";

const KEYS: ReadonlyArray<readonly [string, string]> = [
  ["/", "type an address"],
  ["Enter", "follow it"],
  ["Ctrl K", "any place, site or account, by typing"],
  ["← →", "along the gates (with a gate in focus)"],
  ["o", "to the Overview"],
  ["f", "to Follow"],
  ["b", "to Bindings"],
  ["r", "to Roots"],
  ["u", "to User sites"],
  ["c", "to Contexts"],
  ["l", "to Logs"],
  ["e", "to Engines"],
  ["g", "to Changes"],
  ["n", "a new site"],
  ["?", "this page"],
  ["Esc", "leave the address line, close this page"],
];

export function Help({ opener }: { opener: React.RefObject<HTMLButtonElement | null> }) {
  const dialog = useRef<HTMLDialogElement>(null);
  const open = useCallback(() => {
    if (!dialog.current?.open) dialog.current?.showModal();
  }, []);
  useKey("?", open);
  useEffect(() => {
    const button = opener.current;
    button?.addEventListener("click", open);
    return () => button?.removeEventListener("click", open);
  }, [opener, open]);
  return (
    <dialog
      ref={dialog}
      aria-labelledby="help-title"
      className="m-auto w-md border border-ink bg-sheet p-6 text-ink"
    >
      <h2 id="help-title" className="mb-3 text-xl font-medium">
        Keys
      </h2>
      <dl className="grid grid-cols-[6rem_1fr] gap-y-1">
        {KEYS.map(([key, what]) => (
          <div key={key} className="contents">
            <dt className="mono">{key}</dt>
            <dd>{what}</dd>
          </div>
        ))}
      </dl>
      <form method="dialog" className="mt-4 text-right">
        <button type="submit" className="cursor-pointer border border-ink px-3 py-1 hover:bg-shoal">
          Close
        </button>
      </form>
    </dialog>
  );
}
