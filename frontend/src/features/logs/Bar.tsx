import type { ReactNode } from "react";

interface Props {
  /** Of the longest one, between 0 and 1. */
  share: number;
  told: string;
  children: ReactNode;
}

/** One of a list, on a bar as long as its share. */
export function Bar({ share, told, children }: Props) {
  return (
    <li className="relative grid grid-cols-[minmax(0,1fr)_auto] gap-3 px-1 py-0.5">
      <span
        aria-hidden="true"
        className="absolute inset-y-0.5 left-0 bg-shoal"
        style={{ width: `${100 * share}%` }}
      />
      <span className="relative min-w-0 truncate">{children}</span>
      <span className="relative text-right">{told}</span>
    </li>
  );
}
