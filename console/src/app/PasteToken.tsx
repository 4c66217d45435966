import { type FormEvent, useState } from "react";
import { Button } from "./ui";

/** A token to paste, where a shared secret makes them. */
export function PasteToken({ label, onToken }: { label: string; onToken: (token: string) => void }) {
  const [token, setToken] = useState("");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onToken(token.trim());
  };
  return (
    <form onSubmit={submit} className="mt-6">
      <label htmlFor="token" className="block font-medium">
        {label}
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
  );
}

export const NOT_A_TOKEN = "That is not a JSON Web Token. Make one with: nestrel token USER";
