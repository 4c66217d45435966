import { useEffect, useState } from "react";
import { Seat } from "../sync/seat";
import { Shell } from "./Shell";
import { Notice, SignInPage } from "./SignInPage";
import { SeatContext } from "./seatContext";
import { readConfig, type Signed, SignIn } from "./signIn";

let starting: Promise<{ signIn: SignIn; signed: Signed | null }> | null = null;

/** Once for each page: an authorization code can be used only once, however often React mounts. */
function start() {
  starting ??= readConfig().then(async (config) => {
    const signIn = new SignIn(config);
    const signed = await signIn.restore();
    if (!signed && signIn.hasIssuer && signIn.remembered) {
      await signIn.redirect(signIn.remembered);
      await new Promise(() => {}); // the page is left
    }
    return { signIn, signed };
  });
  return starting;
}

/** Finds out who is here: shows the way in, or the console of the signed-in member. */
export function Gate() {
  const [signIn, setSignIn] = useState<SignIn | null>(null);
  const [signed, setSigned] = useState<Signed | null>(null);
  const [problem, setProblem] = useState("");

  useEffect(() => {
    start().then(
      (ready) => {
        setSignIn(ready.signIn);
        setSigned(ready.signed);
      },
      (error: unknown) => setProblem(error instanceof Error ? error.message : String(error)),
    );
  }, []);

  if (problem) return <Notice title="The console cannot start" detail={problem} />;
  if (!signIn) return <Notice title="Nestrel" detail="one moment" />;
  if (!signed) return <SignInPage signIn={signIn} onSigned={setSigned} />;
  return <Seated signed={signed} />;
}

function Seated({ signed }: { signed: Signed }) {
  const [seat, setSeat] = useState<Seat | null>(null);
  useEffect(() => {
    const made = new Seat(signed.userId, signed.token);
    setSeat(made);
    return () => made.end();
  }, [signed]);
  if (!seat) return null;
  return (
    <SeatContext value={{ seat, signed }}>
      <Shell />
    </SeatContext>
  );
}
