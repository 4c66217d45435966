import { type FormEvent, useState } from "react";
import type { Second, SignIn } from "../app/signIn";
import { Button } from "../app/ui";

/** The second seat's way in. */
export function SecondSignIn(props: { signIn: SignIn; first: string; onSigned: (second: Second) => void }) {
  const { signIn, first, onSigned } = props;
  const [token, setToken] = useState("");
  const [problem, setProblem] = useState("");

  const take = (second: Second | null) => {
    if (!second) return setProblem("That is not a JSON Web Token. Make one with: nestrel token USER");
    if (second.userId === first) {
      void signIn.leaveBeside();
      return setProblem("Both seats would be the same member. Choose another for this one.");
    }
    onSigned(second);
  };
  const open = () =>
    signIn.signInBeside().then(take, (error: Error) => setProblem(`The issuer: ${error.message}`));
  const paste = (event: FormEvent) => {
    event.preventDefault();
    take(signIn.tokenBeside(token.trim()));
  };

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
        <form onSubmit={paste} className="mt-6">
          <label htmlFor="second-token" className="block font-medium">
            {signIn.hasIssuer ? "Or paste a token" : "Paste a token"}
          </label>
          <textarea
            id="second-token"
            value={token}
            onChange={(event) => setToken(event.target.value)}
            rows={4}
            spellCheck={false}
            className="mt-1 w-full resize-none border border-line bg-shoal p-2 font-mono text-xs"
          />
          <Button type="submit" className="mt-2">
            Use this token
          </Button>
        </form>
      )}
      {problem && (
        <p role="alert" className="mt-4 text-buoy">
          {problem}
        </p>
      )}
    </div>
  );
}
