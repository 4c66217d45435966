import type { ButtonHTMLAttributes } from "react";

/** A plain button; `strong` for the one that is meant. */
export function Button({
  strong = false,
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { strong?: boolean }) {
  const look = strong ? "border-ink bg-ink text-paper" : "border-line bg-paper hover:bg-shoal";
  return (
    <button
      type="button"
      {...rest}
      className={`border px-3 py-1 font-medium disabled:cursor-default disabled:opacity-60 ${look} ${className}`}
    />
  );
}

export const field = "w-full border border-line bg-paper px-2 py-1 placeholder:text-faint";
