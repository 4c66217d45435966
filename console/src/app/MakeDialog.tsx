import { Dialog } from "radix-ui";
import { type FormEvent, type ReactNode, useState } from "react";
import { useNavigate } from "react-router";
import { answered, type Conversation, type Profile, Refusal } from "../api/client";
import { PersonField } from "./PersonField";
import { useSeat } from "./seatContext";
import { Button, field } from "./ui";

type Kind = Conversation["kind"];

/** Make a conversation; a taken name says so at the field. */
export function MakeDialog({ trigger }: { trigger: ReactNode }) {
  const { seat } = useSeat();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [kind, setKind] = useState<Kind>("group");
  const [problems, setProblems] = useState<Record<string, string>>({});
  const [busy, setBusy] = useState(false);
  const [chosen, setChosen] = useState<Profile[]>([]);

  const choose = (one: Kind) => {
    setKind(one);
    if (one === "direct") setChosen((before) => before.slice(0, 1));
  };

  const make = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const members = chosen.map((one) => one.user_id);
    setBusy(true);
    try {
      const body =
        kind === "direct"
          ? ({ kind, members, title: "", visibility: "closed" } as const)
          : ({
              kind,
              members,
              name: text("name") || null,
              title: text("title"),
              visibility: form.get("open") ? "open" : "closed",
            } as const);
      const made = await answered(seat.api.POST("/v1/conversations", { body }));
      setOpen(false);
      setProblems({});
      setChosen([]);
      await seat.list.refresh(made.id);
      await navigate(`/c/${made.id}`);
    } catch (error) {
      setProblems(problemsByField(error));
    } finally {
      setBusy(false);
    }
  };

  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>{trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content className="fixed top-[12vh] left-1/2 w-[min(28rem,calc(100vw-2rem))] -translate-x-1/2 border border-line bg-paper p-4">
          <Dialog.Title className="mb-3 border-b border-line pb-2 font-semibold">
            New conversation
          </Dialog.Title>
          <Dialog.Description className="sr-only">
            Name it, choose its kind and add members.
          </Dialog.Description>
          <form onSubmit={make} className="grid gap-3">
            <fieldset className="flex gap-4">
              <legend className="sr-only">Kind</legend>
              {(["group", "bulletin", "direct"] as const).map((one) => (
                <label key={one} className="flex items-center gap-1">
                  <input type="radio" name="kind" checked={kind === one} onChange={() => choose(one)} /> {one}
                </label>
              ))}
            </fieldset>
            {kind !== "direct" && (
              <>
                <Field
                  name="name"
                  label="Name"
                  hint="short and unique, may be left out"
                  problem={problems.name}
                />
                <Field name="title" label="Title" hint="what is shown" problem={problems.title} />
                <label className="flex items-center gap-2">
                  <input type="checkbox" name="open" /> Open: anyone may find it and join
                </label>
              </>
            )}
            <div>
              <label htmlFor="make-members" className="font-medium">
                {kind === "direct" ? "With" : "Members"}{" "}
                <span className="font-normal text-faint">
                  {kind === "direct" ? "one person, by name" : "by name, may be left out"}
                </span>
              </label>
              <PersonField
                id="make-members"
                label={kind === "direct" ? "With" : "Members"}
                chosen={chosen}
                onChange={setChosen}
                most={kind === "direct" ? 1 : 1000}
                invalid={problems.members !== undefined}
                describedBy={problems.members ? "make-members-problem" : undefined}
              />
              {problems.members && (
                <p id="make-members-problem" role="alert" className="mt-1 text-buoy">
                  {problems.members}
                </p>
              )}
            </div>
            {problems.other && (
              <p role="alert" className="text-buoy">
                {problems.other}
              </p>
            )}
            <div className="flex justify-end gap-2">
              <Dialog.Close asChild>
                <Button>Cancel</Button>
              </Dialog.Close>
              <Button strong type="submit" disabled={busy}>
                Make
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function problemsByField(error: unknown): Record<string, string> {
  if (!(error instanceof Refusal)) return { other: error instanceof Error ? error.message : String(error) };
  if (error.is("name-taken")) return { name: error.message };
  const found: Record<string, string> = {};
  for (const fault of error.problem.errors ?? []) {
    const name = (fault.pointer ?? "").split("/")[1] || "other";
    found[["name", "title", "members"].includes(name) ? name : "other"] = fault.detail ?? "";
  }
  return Object.keys(found).length ? found : { other: error.message };
}

function Field(props: { name: string; label: string; hint: string; problem: string | undefined }) {
  const { name, label, hint, problem } = props;
  return (
    <div>
      <label htmlFor={`make-${name}`} className="font-medium">
        {label} <span className="font-normal text-faint">{hint}</span>
      </label>
      <input
        id={`make-${name}`}
        name={name}
        autoComplete="off"
        aria-invalid={problem !== undefined}
        aria-describedby={problem ? `make-${name}-problem` : undefined}
        className={`${field} mt-1 ${problem ? "border-buoy" : ""}`}
      />
      {problem && (
        <p id={`make-${name}-problem`} role="alert" className="mt-1 text-buoy">
          {problem}
        </p>
      )}
    </div>
  );
}
