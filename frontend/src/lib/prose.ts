export interface Piece {
  piece: string;
  literal: boolean;
  /** Where the piece begins in the text. */
  at: number;
}

// A path, an address, a mode, owner:group, a host name, a personal site.
const LITERAL =
  /https?:\/\/\S+|(?<![\w.])\.{0,2}\/\S*|\b0[0-7]{3}\b|(?<=mode )[0-7]{4}\b|\b[\w-]+:[\w-]+\b|(?<!\S)\*:\d+|~[\w-]+|\b[\w-]+(?:\.[\w-]+)+\b|\b\w+-data\b|\b\w+_t\b/g;

/** A sentence in pieces: what is to be read letter by letter, and the words around it. */
export function pieces(text: string): Piece[] {
  const found: Piece[] = [];
  let from = 0;
  for (const match of text.matchAll(LITERAL)) {
    const literal = match[0].replace(/[.,;:]+$/, "");
    if (!literal) continue;
    if (match.index > from) {
      found.push({ piece: text.slice(from, match.index), literal: false, at: from });
    }
    found.push({ piece: literal, literal: true, at: match.index });
    from = match.index + literal.length;
  }
  if (from < text.length) found.push({ piece: text.slice(from), literal: false, at: from });
  return found;
}
