/** The columns of the ledger: number, time, author, body, receipts. */
export const GRID =
  "grid grid-cols-[56px_minmax(0,1fr)] gap-x-3 px-3 sm:grid-cols-[64px_40px_132px_minmax(0,1fr)_112px]";
