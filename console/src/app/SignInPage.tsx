import { type FormEvent, useState } from "react";
import type { Signed, SignIn } from "./signIn";
import { Button } from "./ui";

export function Notice({ title, detail }: { title: string; detail: string }) {
  return (
    <main className="mx-auto mt-[16vh] max-w-md px-4">
      <h1 className="border-b border-line pb-2 text-lg font-semibold">{title}</h1>
      <p className="mt-2 text-faint">{detail}</p>
    </main>
  );
}

/** The way in: the issuer's page, or a pasted token where there is no issuer. */
export function SignInPage({ signIn, onSigned }: { signIn: SignIn; onSigned: (signed: Signed) => void }) {
  const [token, setToken] = useState("");
  const [problem, setProblem] = useState("");

  const paste = (event: FormEvent) => {
    event.preventDefault();
    const signed = signIn.fromToken(token.trim());
    if (signed) onSigned(signed);
    else setProblem("That is not a JSON Web Token. Make one with: nestrel token USER");
  };

  return (
    <main className="mx-auto mt-[14vh] max-w-md px-4">
      <h1 className="border-b border-line pb-2 text-lg font-semibold">Nestrel console</h1>
      {signIn.hasIssuer && (
        <div className="mt-4">
          <Button
            strong
            onClick={() =>
              signIn.redirect(null).catch((error: Error) => setProblem(`The issuer: ${error.message}`))
            }
          >
            Sign in
          </Button>
          <p className="mt-2 text-faint">with {signIn.config.issuer?.authority}</p>
        </div>
      )}
      {signIn.config.paste_token && (
        <form onSubmit={paste} className="mt-6">
          <label htmlFor="token" className="block font-medium">
            {signIn.hasIssuer ? "Or paste a token" : "Paste a token"}
          </label>
          <textarea
            id="token"
            value={token}
            onChange={(event) => setToken(event.target.value)}
            rows={4}
            spellCheck={false}
            className="mt-1 w-full resize-none border border-line bg-shoal p-2 font-mono text-xs"
          />
          <div className="mt-2">
            <Button type="submit">Use this token</Button>
          </div>
        </form>
      )}
      {problem && (
        <p role="alert" className="mt-4 text-buoy">
          {problem}
        </p>
      )}
    </main>
  );
}
