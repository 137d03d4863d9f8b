import { type FormEvent, useCallback, useEffect, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { destination } from "./address";
import { useKey } from "./keyboard";

/** Always there: an address starts a passage, any other word looks for a site. */
export function AddressLine() {
  const [params] = useSearchParams();
  const asked = params.get("url") ?? "";
  const [text, setText] = useState(asked);
  const input = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  useEffect(() => setText(asked), [asked]);
  useKey(
    "/",
    useCallback(() => input.current?.select(), []),
  );
  const go = (event: FormEvent) => {
    event.preventDefault();
    const where = destination(text, params);
    if (!where) return;
    navigate(where);
    input.current?.blur();
  };
  return (
    <search className="min-w-0 flex-1">
      <form onSubmit={go} className="flex min-w-0 items-stretch">
        <label className="flex min-w-0 flex-1 items-center border-b-2 border-ink bg-sheet focus-within:border-clear">
          <span className="sr-only">Address</span>
          <span aria-hidden="true" className="mono px-2 text-faint">
            /
          </span>
          <input
            ref={input}
            value={text}
            onChange={(event) => setText(event.target.value)}
            onKeyDown={(event) => event.key === "Escape" && input.current?.blur()}
            placeholder="Type an address, as a visitor would"
            autoComplete="off"
            autoCapitalize="off"
            spellCheck={false}
            className="mono min-w-0 flex-1 bg-transparent py-1.5 outline-none placeholder:font-sans placeholder:text-base placeholder:text-faint"
          />
        </label>
        <button
          type="submit"
          className="cursor-pointer bg-ink px-4 font-medium text-paper hover:bg-clear"
        >
          Follow
        </button>
      </form>
    </search>
  );
}
