import { type FormEvent, useState } from "react";
import { asUrl } from "../../lib/text";
import { Button } from "../../ui/Button";
import { Vantage } from "./Vantage";

interface Props {
  url: string;
  source: string | null;
  choose: (url: string, source: string | null) => void;
  leave: () => void;
}

/** Asks for the other side: another address, or the same one as somebody else. */
export function CompareWith({ url, source, choose, leave }: Props) {
  const [text, setText] = useState(url);
  const [from, setFrom] = useState(source);
  const go = (event: FormEvent) => {
    event.preventDefault();
    const typed = text.trim();
    if (typed) choose(asUrl(typed), from);
  };
  return (
    <form
      onSubmit={go}
      aria-label="Compare"
      className="flex items-baseline gap-6 border-y border-line bg-deep px-5 py-1.5"
    >
      <label className="flex min-w-0 flex-1 items-baseline gap-3 text-sm text-faint">
        beside
        <input
          value={text}
          onChange={(event) => setText(event.target.value)}
          spellCheck={false}
          autoComplete="off"
          className="mono min-w-0 flex-1 border-b border-ink bg-sheet px-1 py-0.5 text-ink"
        />
      </label>
      <Button type="submit">Compare</Button>
      <Button onClick={leave}>Leave</Button>
      <Vantage source={from ?? undefined} choose={setFrom} />
    </form>
  );
}
