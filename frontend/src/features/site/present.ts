export interface Word {
  text: string;
  role: "name" | "note" | "rest";
}

/** A line of configuration with its parts told apart: what it names, what is only said, the rest. */
export function marked(line: string): Word[] {
  const indent = line.length - line.trimStart().length;
  const body = line.slice(indent);
  const words: Word[] = indent ? [{ text: line.slice(0, indent), role: "rest" }] : [];
  if (body.startsWith("#")) return [...words, { text: body, role: "note" }];
  const end = body.search(/[\s;{>]|$/);
  const name = body.slice(0, Math.max(end, 1));
  if (name) words.push({ text: name, role: "name" });
  if (body.length > name.length) words.push({ text: body.slice(name.length), role: "rest" });
  return words;
}
