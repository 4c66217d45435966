/** What a JSON Web Token says, unverified: the service verifies, this only chooses what is shown. */
export function claimsOf(token: string): { sub?: unknown; scope?: unknown } {
  try {
    const part = (token.split(".")[1] ?? "").replaceAll("-", "+").replaceAll("_", "/");
    const bytes = Uint8Array.from(atob(part), (char) => char.charCodeAt(0));
    return JSON.parse(new TextDecoder().decode(bytes)) as { sub?: unknown; scope?: unknown };
  } catch {
    return {};
  }
}

/** Whether a token is a trusted backend's. */
export function isTrusted(token: string): boolean {
  const { scope } = claimsOf(token);
  return typeof scope === "string" && scope.split(" ").includes("nestrel.service");
}
