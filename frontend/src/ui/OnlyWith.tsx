interface Props {
  words: string;
  put: (words: string) => void;
}

/** Words that what is shown must hold. */
export function OnlyWith({ words, put }: Props) {
  return (
    <label className="flex items-baseline gap-2">
      <span className="text-sm text-faint">Only with</span>
      <input
        value={words}
        onChange={(event) => put(event.target.value)}
        className="w-52 border-b border-ink bg-transparent px-1"
        spellCheck={false}
      />
    </label>
  );
}
