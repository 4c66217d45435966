import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useDeferredValue, useState } from "react";
import { answered, type Conversation, Refusal } from "../api/client";
import { useSeat } from "../app/seatContext";
import { Button, field } from "../app/ui";
import { Confirm } from "./Confirm";
import { PreviewPane } from "./PreviewPane";
import { bodyOf, type Draft, draftOf, type Preview, type Rule, wordsOf } from "./rule";

const RETENTION = "/v1/conversations/{conversation_id}/retention" as const;

/** The rule as a form, and beside it what it would take away as it is typed. Nothing goes before it is confirmed. */
export function RuleForm(props: { conversation: Conversation; rule: Rule; onChanged: () => void }) {
  const { conversation, rule, onChanged } = props;
  const { seat } = useSeat();
  const [draft, setDraft] = useState<Draft>(() => draftOf(rule));
  const [problem, setProblem] = useState("");
  const [asking, setAsking] = useState<Preview | null>(null);
  const params = { path: { conversation_id: conversation.id } };
  const read = bodyOf(draft);
  const fault = "body" in read ? null : read;
  const body = "body" in read ? read.body : null;
  const wanted = useDeferredValue(JSON.stringify(body));
  const preview = useQuery({
    queryKey: ["retention preview", conversation.id, conversation.rev, wanted],
    queryFn: () => {
      const { confirm: _, ...sent } = JSON.parse(wanted);
      return answered(seat.api.POST(`${RETENTION}/preview`, { params, body: sent }));
    },
    enabled: wanted !== "null",
    placeholderData: (before) => before,
  });
  const unchanged = JSON.stringify(bodyOf(draftOf(rule))) === JSON.stringify(read);

  const put = async (confirm: boolean) => {
    try {
      if (body) await answered(seat.api.PUT(RETENTION, { params, body: { ...body, confirm } }));
      else await answered(seat.api.DELETE(RETENTION, { params: { ...params, query: { confirm } } }));
      setProblem("");
      setAsking(null);
      onChanged();
    } catch (error) {
      // What goes is asked about as the service says it at this moment.
      const needed = error instanceof Refusal && error.is("confirm-needed");
      setAsking(needed ? (error.problem.preview as Preview) : null);
      setProblem(needed ? "" : error instanceof Error ? error.message : String(error));
    }
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (!fault) void put(false);
  };
  const input = (name: "keepLast" | "keepFor" | "keepBytes", label: string, hint: string) => (
    <div>
      <label htmlFor={`rule-${name}`} className="font-medium">
        {label} <span className="font-normal text-faint">{hint}</span>
      </label>
      <input
        id={`rule-${name}`}
        value={draft[name]}
        onChange={(event) => setDraft({ ...draft, [name]: event.target.value })}
        autoComplete="off"
        aria-invalid={fault?.field === name}
        aria-describedby={fault?.field === name ? `rule-${name}-fault` : undefined}
        className={`${field} sounding mt-1`}
      />
      {fault?.field === name && (
        <p id={`rule-${name}-fault`} role="alert" className="mt-1 text-buoy">
          {fault.detail}
        </p>
      )}
    </div>
  );

  return (
    <div className="grid gap-x-6 border-b border-line lg:grid-cols-[minmax(0,22rem)_minmax(0,1fr)]">
      <form onSubmit={submit} className="grid content-start gap-3 p-4" aria-label="Rule">
        <p>
          {wordsOf(rule)}
          {!rule.own && rule.then !== null && (
            <span className="text-faint">
              {rule.from === "kind"
                ? " That is the rule of all of its kind."
                : " That is the service’s rule."}
            </span>
          )}
        </p>
        {input("keepLast", "Newest messages", "how many are kept")}
        {input("keepFor", "Age", "ISO 8601, as in P30D or P1Y")}
        {input("keepBytes", "Bytes", "of bodies and attributes")}
        <fieldset className="flex gap-4">
          <legend className="mb-1 font-medium">What expires</legend>
          {(["archive", "discard"] as const).map((one) => (
            <label key={one} className="flex items-center gap-1">
              <input
                type="radio"
                name="fate"
                checked={draft.fate === one}
                onChange={() => setDraft({ ...draft, fate: one })}
              />{" "}
              {one === "archive" ? "is archived" : "is discarded"}
            </label>
          ))}
        </fieldset>
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={draft.hold}
            onChange={(event) => setDraft({ ...draft, hold: event.target.checked })}
          />
          Hold: nothing expires until it is lifted
        </label>
        {problem && (
          <p role="alert" className="text-buoy">
            {problem}
          </p>
        )}
        <div className="flex gap-2">
          <Button strong type="submit" disabled={fault !== null || unchanged}>
            {body ? "Set the rule" : "Clear the rule"}
          </Button>
          <Button disabled={unchanged} onClick={() => setDraft(draftOf(rule))}>
            As it was
          </Button>
        </div>
      </form>
      <PreviewPane
        conversation={conversation}
        preview={wanted === "null" ? null : preview.data}
        problem={preview.error?.message}
      />
      {asking && (
        <Confirm
          preview={asking}
          fate={draft.fate}
          onYes={() => void put(true)}
          onNo={() => setAsking(null)}
        />
      )}
    </div>
  );
}
