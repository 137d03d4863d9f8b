import { type ReactNode, useState } from "react";
import { cutWords } from "../lib/text";

interface Props {
  text: string;
  most?: number;
  /** How the text is shown; as it stands without it. */
  children?: (text: string) => ReactNode;
}

/** A text whose long words are cut, and shown whole on demand. Not for use within a link. */
export function Cut({ text, most = 64, children = (shown) => shown }: Props) {
  const [whole, setWhole] = useState(false);
  const short = cutWords(text, most);
  if (short === text) return children(text);
  return (
    <span className="wrap-anywhere">
      {children(whole ? text : short)}{" "}
      <button
        type="button"
        aria-expanded={whole}
        onClick={() => setWhole(!whole)}
        className="cursor-pointer text-sm text-faint underline decoration-line underline-offset-3 hover:text-ink"
      >
        {whole ? "shorter" : "whole"}
      </button>
    </span>
  );
}
