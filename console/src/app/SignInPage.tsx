import { useState } from "react";
import { NOT_A_TOKEN, PasteToken } from "./PasteToken";
import type { Signed, SignIn } from "./signIn";
import { Button } from "./ui";

export function Notice({ title, detail, again }: { title: string; detail: string; again?: boolean }) {
  return (
    <main className="mx-auto mt-[16vh] max-w-md px-4">
      <h1 className="border-b border-line pb-2 text-lg font-semibold">{title}</h1>
      <p className="mt-2 text-faint">{detail}</p>
      {again && (
        <div className="mt-4">
          <Button onClick={() => window.location.reload()}>Try again</Button>
        </div>
      )}
    </main>
  );
}

/** The way in: the issuer's page, or a pasted token where there is no issuer. */
export function SignInPage({ signIn, onSigned }: { signIn: SignIn; onSigned: (signed: Signed) => void }) {
  const [problem, setProblem] = useState("");

  const paste = (token: string) => {
    const signed = signIn.fromToken(token);
    if (signed) onSigned(signed);
    else setProblem(NOT_A_TOKEN);
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
        <PasteToken label={signIn.hasIssuer ? "Or paste a token" : "Paste a token"} onToken={paste} />
      )}
      {problem && (
        <p role="alert" className="mt-4 text-buoy">
          {problem}
        </p>
      )}
    </main>
  );
}
