import { type User, UserManager, WebStorageStateStore } from "oidc-client-ts";
import { claimsOf } from "../lib/claims";
import { small } from "../lib/storage";
import { Replica } from "../sync/replica";
import { forgetPlaces, keepsOffline } from "./reading";

export type ConsoleConfig = {
  issuer: { authority: string; client_id: string } | null;
  paste_token: boolean;
  version: string;
};

export type Signed = {
  userId: string;
  token: () => string;
  leave: () => Promise<void>;
  other: (() => void) | null;
};

export type Second = { userId: string; token: () => string };

const TOKEN = "nestrel.token";
const TOKEN_BESIDE = "nestrel.token.beside";
const CONFIG = "nestrel.config";
const BESIDE = "/console/signed-in-beside";
const MEMBER = "nestrel.member";

/** How one signs in here; with no network, as it was the last time. */
export async function readConfig(): Promise<ConsoleConfig & { away: boolean }> {
  try {
    const answer = await fetch("/console/config.json");
    if (!answer.ok) throw new Error(`the service answered ${answer.status}`);
    const config = (await answer.json()) as ConsoleConfig;
    small.set(CONFIG, JSON.stringify(config));
    return { ...config, away: false };
  } catch (error) {
    const held = small.get(CONFIG);
    if (!held) throw error;
    return { ...(JSON.parse(held) as ConsoleConfig), away: true };
  }
}

/** `beside`: for the second seat, which signs in in a window of its own and is kept beside the first. */
function manager(config: ConsoleConfig, beside: boolean): UserManager | null {
  if (!config.issuer) return null;
  const here = `${window.location.origin}/console/`;
  return new UserManager({
    authority: config.issuer.authority,
    client_id: config.issuer.client_id,
    redirect_uri: `${here}signed-in`,
    popup_redirect_uri: `${window.location.origin}${BESIDE}`,
    scope: "openid profile nestrel.service",
    userStore: new WebStorageStateStore({
      store: window.sessionStorage,
      ...(beside ? { prefix: "nestrel.beside." } : {}),
    }),
    stateStore: new WebStorageStateStore({ store: window.sessionStorage }),
    automaticSilentRenew: false,
  });
}

/** The `sub` of a JSON Web Token, unverified: the service verifies, this only names the seat. */
function subjectOf(token: string): string | null {
  const { sub } = claimsOf(token);
  return typeof sub === "string" ? sub : null;
}

function second(token: string): Second | null {
  const userId = subjectOf(token);
  return userId ? { userId, token: () => token } : null;
}

export class SignIn {
  private readonly users: UserManager | null;
  private readonly beside: UserManager | null;

  constructor(readonly config: ConsoleConfig & { away: boolean }) {
    this.users = manager(config, false);
    this.beside = manager(config, true);
  }

  /** Whether this page is the second seat's way back from the issuer: then it tells the page that opened it, which
   * closes it. */
  async finishBeside(): Promise<boolean> {
    if (window.location.pathname !== BESIDE) return false;
    await this.beside?.signinPopupCallback();
    return true;
  }

  /** The member of the second seat, if one is signed in there. */
  async second(): Promise<Second | null> {
    const user = await this.beside?.getUser();
    if (user && !user.expired) return second(user.access_token);
    const pasted = window.sessionStorage.getItem(TOKEN_BESIDE);
    return pasted ? second(pasted) : null;
  }

  /** Sign a second member in, in a window of its own. */
  async signInBeside(): Promise<Second | null> {
    const user = await this.beside?.signinPopup({ prompt: "select_account" });
    return user ? second(user.access_token) : null;
  }

  /** Use a pasted token for the second seat; null if it is not one. */
  tokenBeside(token: string): Second | null {
    const found = second(token);
    if (found) window.sessionStorage.setItem(TOKEN_BESIDE, token);
    return found;
  }

  async leaveBeside(): Promise<void> {
    await this.beside?.removeUser();
    window.sessionStorage.removeItem(TOKEN_BESIDE);
  }

  /** With no network: whoever was here last, without a token, to see what this browser holds. */
  offline(): Signed | null {
    return this.config.away && this.remembered ? this.signed(this.remembered, () => "") : null;
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
    return small.get(MEMBER);
  }

  /** Go to the issuer; comes back to where one was. Without `again` the issuer asks who one is. */
  async redirect(again: string | null): Promise<void> {
    await this.users?.signinRedirect({
      state: window.location.pathname.startsWith("/console/signed-in")
        ? "/console/"
        : window.location.pathname + window.location.search,
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
    small.set(MEMBER, userId);
    return {
      userId,
      token,
      leave: async () => {
        small.set(MEMBER, null);
        window.sessionStorage.clear();
        if (!keepsOffline(userId)) {
          forgetPlaces(userId);
          await Replica.forget(userId);
        }
        window.location.assign("/console/");
      },
      other: this.users ? () => void this.redirect(null) : null,
    };
  }
}
