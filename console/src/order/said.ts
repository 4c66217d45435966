/** What went wrong, in words. */
export const wordsOf = (error: unknown): string => (error instanceof Error ? error.message : String(error));
