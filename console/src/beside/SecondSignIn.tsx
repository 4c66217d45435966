import { useState } from "react";
import { NOT_A_TOKEN, PasteToken } from "../app/PasteToken";
import type { Second, SignIn } from "../app/signIn";
import { Button } from "../app/ui";

/** The second seat's way in. */
export function SecondSignIn(props: { signIn: SignIn; first: string; onSigned: (second: Second) => void }) {
  const { signIn, first, onSigned } = props;
  const [problem, setProblem] = useState("");

  const take = (second: Second | null) => {
    if (!second) return setProblem(NOT_A_TOKEN);
    if (second.userId === first) {
      void signIn.leaveBeside();
      return setProblem("Both seats would be the same member. Choose another for this one.");
    }
    onSigned(second);
  };
  const open = () =>
    signIn.signInBeside().then(take, (error: Error) => setProblem(`The issuer: ${error.message}`));

  return (
    <div className="mx-auto max-w-md">
      <h2 className="border-b border-line pb-2 text-lg font-semibold">Side by side</h2>
      <p className="mt-2 text-faint">
        Two members on one conversation, each with a line of its own. Cut one, post from the other, restore
        it, and watch it come back. The first seat is yours; who takes the second?
      </p>
      {signIn.hasIssuer && (
        <div className="mt-4">
          <Button strong onClick={() => void open()}>
            Sign in a second member
          </Button>
        </div>
      )}
      {signIn.config.paste_token && (
        <PasteToken
          label={signIn.hasIssuer ? "Or paste a token" : "Paste a token"}
          onToken={(token) => take(signIn.tokenBeside(token))}
        />
      )}
      {problem && (
        <p role="alert" className="mt-4 text-buoy">
          {problem}
        </p>
      )}
    </div>
  );
}
