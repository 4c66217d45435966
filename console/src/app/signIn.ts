import { type User, UserManager, WebStorageStateStore } from "oidc-client-ts";

export type ConsoleConfig = {
  issuer: { authority: string; client_id: string } | null;
  paste_token: boolean;
  version: string;
};

export type Signed = { userId: string; token: () => string; leave: () => void; other: (() => void) | null };

const TOKEN = "nestrel.token";
const MEMBER = "nestrel.member";

export async function readConfig(): Promise<ConsoleConfig> {
  const answer = await fetch("/console/config.json");
  if (!answer.ok) throw new Error(`the service answered ${answer.status}`);
  return (await answer.json()) as ConsoleConfig;
}

function manager(config: ConsoleConfig): UserManager | null {
  if (!config.issuer) return null;
  const here = `${window.location.origin}/console/`;
  return new UserManager({
    authority: config.issuer.authority,
    client_id: config.issuer.client_id,
    redirect_uri: `${here}signed-in`,
    scope: "openid profile",
    userStore: new WebStorageStateStore({ store: window.sessionStorage }),
    stateStore: new WebStorageStateStore({ store: window.sessionStorage }),
    automaticSilentRenew: false,
  });
}

/** The `sub` of a JSON Web Token, unverified: the service verifies, this only names the seat. */
function subjectOf(token: string): string | null {
  try {
    const part = (token.split(".")[1] ?? "").replaceAll("-", "+").replaceAll("_", "/");
    const bytes = Uint8Array.from(atob(part), (char) => char.charCodeAt(0));
    const claims = JSON.parse(new TextDecoder().decode(bytes)) as { sub?: unknown };
    return typeof claims.sub === "string" ? claims.sub : null;
  } catch {
    return null;
  }
}

export class SignIn {
  private readonly users: UserManager | null;

  constructor(readonly config: ConsoleConfig) {
    this.users = manager(config);
  }

  get hasIssuer(): boolean {
    return this.users !== null;
  }

  /** The member of this tab, if one is signed in; finishes a sign-in that comes back from the issuer. */
  async restore(): Promise<Signed | null> {
    if (this.users) {
      if (window.location.pathname === "/console/signed-in") {
        const user = await this.users.signinRedirectCallback();
        window.history.replaceState(null, "", typeof user.state === "string" ? user.state : "/console/");
        return this.fromUser(user);
      }
      const user = await this.users.getUser();
      if (user && !user.expired) return this.fromUser(user);
    }
    const pasted = window.sessionStorage.getItem(TOKEN);
    return pasted ? this.fromToken(pasted) : null;
  }

  /** Whether this browser had a member before: then it signs in as the same one again without asking. */
  get remembered(): string | null {
    return window.localStorage.getItem(MEMBER);
  }

  /** Go to the issuer; comes back to where one was. Without `again` the issuer asks who one is. */
  async redirect(again: string | null): Promise<void> {
    await this.users?.signinRedirect({
      state: window.location.pathname.startsWith("/console/signed-in")
        ? "/console/"
        : window.location.pathname,
      ...(again ? { login_hint: again } : { prompt: "select_account" }),
    });
  }

  /** Use a pasted token; null if it is not one. */
  fromToken(token: string): Signed | null {
    const userId = subjectOf(token);
    if (!userId) return null;
    window.sessionStorage.setItem(TOKEN, token);
    return this.signed(userId, () => token);
  }

  private fromUser(user: User): Signed {
    return this.signed(subjectOf(user.access_token) ?? user.profile.sub, () => user.access_token);
  }

  private signed(userId: string, token: () => string): Signed {
    window.localStorage.setItem(MEMBER, userId);
    return {
      userId,
      token,
      leave: () => {
        window.localStorage.removeItem(MEMBER);
        window.sessionStorage.clear();
        window.location.assign("/console/");
      },
      other: this.users ? () => void this.redirect(null) : null,
    };
  }
}
