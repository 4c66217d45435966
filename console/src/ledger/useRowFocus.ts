import { type KeyboardEvent, useState } from "react";
import type { Row } from "../sync/conversationCopy";

/**
 * One message of the ledger takes the focus by Tab; the arrow keys move it, row by row. Without one chosen it is the
 * newest.
 */
export function useRowFocus(rows: Row[], reveal: (index: number) => void) {
  const [chosen, setCurrent] = useState<number | null>(null);
  const seqs = rows.flatMap((row) => (row.kind === "message" ? [row.message.seq] : []));
  const current = chosen !== null && seqs.includes(chosen) ? chosen : (seqs[seqs.length - 1] ?? null);

  const onKeyDown = (event: KeyboardEvent<HTMLElement>) => {
    const row = event.target instanceof HTMLElement ? event.target.closest("article[data-seq]") : null;
    if (event.target !== row || (event.key !== "ArrowUp" && event.key !== "ArrowDown")) return;
    const at = seqs.indexOf(Number((row as HTMLElement).dataset.seq));
    const next = seqs[at + (event.key === "ArrowUp" ? -1 : 1)];
    if (at < 0 || next === undefined) return;
    event.preventDefault();
    setCurrent(next);
    reveal(rows.findIndex((one) => one.kind === "message" && one.message.seq === next));
    const pane = event.currentTarget;
    requestAnimationFrame(() => pane.querySelector<HTMLElement>(`article[data-seq="${next}"]`)?.focus());
  };
  return { current, setCurrent, onKeyDown };
}
