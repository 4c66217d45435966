import { Moon, Sun, SunMoon } from "lucide-react";
import { useState } from "react";
import { resyncText } from "../lib/format";
import { small } from "../lib/storage";
import { tellNoMore } from "../notices/device";
import { OutboxState } from "./OutboxState";
import { keepsOffline, setKeepsOffline } from "./reading";
import { useSeat } from "./seatContext";
import { useObservable } from "./useObservable";
import { useUpdated } from "./useUpdated";

const WORDS = { connecting: "catching up", live: "live", away: "away", refused: "refused" } as const;

/** Always there: how the line is and why, who is signed in, and the last `rev` heard. */
export function StatusStrip() {
  const { seat, signed } = useSeat();
  useObservable(seat);
  const line = useObservable(seat.line);
  useObservable(seat.outbox);
  const updated = useUpdated(line.state === "live");
  const colour = line.state === "live" ? "text-chart" : "text-buoy";
  return (
    <footer className="flex flex-wrap items-center gap-x-4 border-t border-line bg-shoal px-3 py-1 text-xs">
      <span className={`flex items-center gap-2 font-semibold ${colour}`} role="status" aria-label="line">
        <span aria-hidden className="inline-block size-2 rounded-full bg-current" />
        {WORDS[line.state]}
        {line.reason && <span className="font-normal">{line.reason}</span>}
      </span>
      {line.state === "away" && (
        <button type="button" className="underline" onClick={line.retryNow}>
          try now
        </button>
      )}
      {line.state === "refused" && signed.other && (
        <button type="button" className="underline" onClick={signed.other}>
          sign in again
        </button>
      )}
      {updated && (
        <span role="alert">
          This page is of an older version of the console.{" "}
          <button type="button" className="underline" onClick={() => window.location.reload()}>
            Load it again
          </button>
        </span>
      )}
      <OutboxState />
      {seat.resynced && line.state === "live" && (
        <span className="sounding text-faint" title="what the last resync brought">
          {resyncText(seat.resynced)}
        </span>
      )}
      <span className="ml-auto">
        <span className="text-faint">member </span>
        <span data-testid="member">{seat.profiles.get(seat.userId)?.display_name ?? seat.userId}</span>
      </span>
      <span className="sounding text-faint">rev {seat.lastRev || "—"}</span>
      {signed.other && (
        <button type="button" className="underline" onClick={signed.other}>
          someone else
        </button>
      )}
      <SignOut />
      <ThemeSwitch />
    </footer>
  );
}

/** Signing out leaves nothing of what was read in this browser, unless it is to stay. */
function SignOut() {
  const { seat, signed } = useSeat();
  const [keeps, setKeeps] = useState(keepsOffline(seat.userId));
  const leave = async () => {
    await tellNoMore(seat).catch(() => undefined); // the browser refuses what is pushed to it from then on
    await seat.end();
    await signed.leave();
  };
  return (
    <>
      <label className="flex items-center gap-1 text-faint" title="leave the conversations in this browser">
        <input
          type="checkbox"
          checked={keeps}
          onChange={(event) => {
            setKeepsOffline(seat.userId, event.target.checked);
            setKeeps(event.target.checked);
          }}
        />
        keep for offline
      </label>
      <button type="button" className="underline" onClick={() => void leave()}>
        sign out
      </button>
    </>
  );
}

const THEMES = ["system", "light", "dark"] as const;
type Theme = (typeof THEMES)[number];

function ThemeSwitch() {
  const [theme, setTheme] = useState<Theme>((small.get("nestrel.theme") as Theme | null) ?? "system");
  const next = THEMES[(THEMES.indexOf(theme) + 1) % THEMES.length] as Theme;
  const Icon = { system: SunMoon, light: Sun, dark: Moon }[theme];
  const choose = () => {
    if (next === "system") {
      small.set("nestrel.theme", null);
      delete document.documentElement.dataset.theme;
    } else {
      small.set("nestrel.theme", next);
      document.documentElement.dataset.theme = next;
    }
    setTheme(next);
  };
  return (
    <button
      type="button"
      onClick={choose}
      aria-label={`theme: ${theme}; change to ${next}`}
      title={`theme: ${theme}`}
    >
      <Icon size={14} aria-hidden />
    </button>
  );
}
