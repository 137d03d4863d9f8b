import { pieces } from "../lib/prose";

/** A sentence in which paths, modes, addresses and names of accounts stand in the mono face. */
export function Prose({ text }: { text: string }) {
  return pieces(text).map(({ piece, literal, at }) =>
    literal ? (
      <code key={at} className="wrap-anywhere">
        {piece}
      </code>
    ) : (
      piece
    ),
  );
}
