import type { ButtonHTMLAttributes } from "react";

export function Button({ className = "", ...rest }: ButtonHTMLAttributes<HTMLButtonElement>) {
  return (
    <button
      type="button"
      className={`cursor-pointer border border-ink bg-sheet px-3 py-1 hover:bg-shoal disabled:cursor-default disabled:border-line disabled:text-faint ${className}`}
      {...rest}
    />
  );
}
