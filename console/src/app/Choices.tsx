import { type KeyboardEvent, useEffect, useId, useState } from "react";

export type Choice = { key: string; label: string; detail?: string };

type Handlers = {
  /** What the field that is typed in gets, to speak for the list (WAI-ARIA, combobox). */
  field: {
    role: "combobox";
    "aria-expanded": boolean;
    "aria-controls": string;
    "aria-autocomplete": "list";
    "aria-activedescendant": string | undefined;
  };
  /** Whether a key was for the list. */
  onKey: (event: KeyboardEvent) => boolean;
  list: React.ReactNode;
};

/** A list under a field, walked with the arrow keys; Enter and Tab take what is marked, Escape closes it. */
export function useChoices(
  choices: Choice[],
  take: (key: string) => void,
  close: () => void,
  label: string,
): Handlers {
  const id = useId();
  const [marked, setMarked] = useState(0);
  const keys = choices.map((one) => one.key).join("\n");
  // biome-ignore lint/correctness/useExhaustiveDependencies: another list is marked at its beginning
  useEffect(() => setMarked(0), [keys]);
  const open = choices.length > 0;
  const at = Math.min(marked, choices.length - 1);
  const optionId = (n: number) => `${id}-${n}`;

  const onKey = (event: KeyboardEvent): boolean => {
    if (!open || event.nativeEvent.isComposing) return false;
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (step) setMarked((at + step + choices.length) % choices.length);
    else if ((event.key === "Enter" && !event.shiftKey) || event.key === "Tab")
      take((choices[at] as Choice).key);
    else if (event.key === "Escape") close();
    else return false;
    event.preventDefault();
    event.stopPropagation();
    return true;
  };

  return {
    field: {
      role: "combobox",
      "aria-expanded": open,
      "aria-controls": `${id}-list`,
      "aria-autocomplete": "list",
      "aria-activedescendant": open ? optionId(at) : undefined,
    },
    onKey,
    list: (
      <div
        id={`${id}-list`}
        role="listbox"
        aria-label={label}
        hidden={!open}
        className="absolute z-20 max-h-56 w-full max-w-80 overflow-y-auto border border-line bg-paper shadow"
      >
        {choices.map((one, n) => (
          // biome-ignore lint/a11y/useKeyWithClickEvents: the field has the keys, and says which one is marked
          <div
            key={one.key}
            id={optionId(n)}
            role="option"
            tabIndex={-1}
            aria-selected={n === at}
            onMouseDown={(event) => event.preventDefault()}
            onClick={() => take(one.key)}
            className={`flex cursor-default items-baseline gap-2 px-2 py-1 ${n === at ? "bg-depth" : ""}`}
          >
            <span className="truncate">{one.label}</span>
            {one.detail && <span className="sounding ml-auto truncate text-faint">{one.detail}</span>}
          </div>
        ))}
      </div>
    ),
  };
}
