/** What a browser says of a place in which it does not keep something, in words that say what to do. */
export function storageWords(error: unknown): string {
  const name = error instanceof Error || error instanceof DOMException ? error.name : "";
  switch (name) {
    case "QuotaExceededError":
      return "This browser has no room left for what the console keeps. Free space on the disk, or delete the data of other sites, and try again.";
    case "SecurityError":
    case "InvalidStateError":
    case "NotAllowedError":
      return `This browser lets the console keep nothing: site data is blocked, or this is a private window. Allow site data for ${window.location.origin}, or use another window, and try again.`;
    case "VersionError":
      return "A newer version of the console has been used in this browser. Close its other windows, and load this page again.";
    default:
      return error instanceof Error ? error.message || error.name : String(error);
  }
}

/** Small things that are kept in this browser: drafts, where one was reading, how it looks. Where the browser refuses, or
 * is full, nothing is kept and nothing is known: none of them is worth more than a moment. */
export const small = {
  get(name: string): string | null {
    try {
      return localStorage.getItem(name);
    } catch {
      return null;
    }
  },

  /** Keep one; null keeps none. */
  set(name: string, value: string | null): void {
    try {
      if (value === null) localStorage.removeItem(name);
      else localStorage.setItem(name, value);
    } catch {
      // it is not there the next time
    }
  },

  names(): string[] {
    try {
      return Object.keys(localStorage);
    } catch {
      return [];
    }
  },
};
