import { pieces } from "../lib/prose";
import { cutWords } from "../lib/text";

/** A sentence in which paths, modes, addresses and names of accounts stand in the mono face. Long
 * words are cut, but for `whole`. */
export function Prose({ text, whole = false }: { text: string; whole?: boolean }) {
  return pieces(whole ? text : cutWords(text)).map(({ piece, literal, at }) =>
    literal ? (
      <code key={at} className="wrap-anywhere">
        {piece}
      </code>
    ) : (
      piece
    ),
  );
}
