import { useEffect, useState } from "react";
import { storageWords } from "../lib/storage";
import { Shell } from "./Shell";
import { Notice, SignInPage } from "./SignInPage";
import { SeatContext } from "./seatContext";
import { readConfig, type Signed, SignIn } from "./signIn";
import { useOpenedSeat } from "./useOpenedSeat";

let starting: Promise<{ signIn: SignIn; signed: Signed | null }> | null = null;

/** Once for each page: an authorization code can be used only once, however often React mounts. */
function start() {
  starting ??= readConfig().then(async (config) => {
    const signIn = new SignIn(config);
    if (await signIn.finishBeside()) await new Promise(() => {}); // the page is closed
    const signed = (await signIn.restore()) ?? signIn.offline();
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
      (error: unknown) => setProblem(storageWords(error)),
    );
  }, []);

  if (problem) return <Notice title="The console cannot start" detail={problem} again />;
  if (!signIn) return <Notice title="Nestrel" detail="one moment" />;
  if (!signed) return <SignInPage signIn={signIn} onSigned={setSigned} />;
  return <Seated signed={signed} signIn={signIn} />;
}

function Seated({ signed, signIn }: { signed: Signed; signIn: SignIn }) {
  const { seat, problem } = useOpenedSeat(signed);
  if (problem) return <Notice title="This browser cannot keep the conversations" detail={problem} again />;
  if (!seat) return null;
  return (
    <SeatContext value={{ seat, signed, signIn }}>
      <Shell />
    </SeatContext>
  );
}
