import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { type FormEvent, Fragment, useState } from "react";
import { answered, type Webhook } from "../api/client";
import { Columns, PagedPlace } from "../app/PagedPlace";
import { useSeat } from "../app/seatContext";
import { Button, field } from "../app/ui";
import { count, counted, exactTime, shortTime } from "../lib/format";
import { wordsOf } from "../order/said";
import { standing } from "./standing";

const ONE = "/v1/webhooks/{webhook_id}" as const;

/** Where changes are sent to: how each stands, what its receiver answered, and a way to send again. For a trusted
 * backend. */
export function WebhooksPage() {
  const { seat } = useSeat();
  const [problem, setProblem] = useState("");
  const [made, setMade] = useState<{ url: string; secret: string } | null>(null);
  const [open, setOpen] = useState<string | null>(null);
  const found = useInfiniteQuery({
    queryKey: ["webhooks", seat.userId],
    refetchInterval: 3_000,
    queryFn: ({ pageParam }) =>
      answered(
        seat.api.GET("/v1/webhooks", {
          params: { query: pageParam ? { cursor: pageParam, limit: 200 } : { limit: 200 } },
        }),
      ),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next,
  });
  const act = async (work: Promise<unknown>) => {
    try {
      await work;
      setProblem("");
    } catch (error) {
      setProblem(wordsOf(error));
    }
    await found.refetch();
  };
  const make = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const url = String(new FormData(form).get("url") ?? "").trim();
    const work = async () => {
      const { secret } = await answered(seat.api.POST("/v1/webhooks", { body: { url, type: "changes" } }));
      setMade({ url, secret });
      form.reset();
    };
    void act(work());
  };
  const items = (found.data?.pages ?? []).flatMap((page) => page.items);
  return (
    <PagedPlace
      found={found}
      problem={problem}
      more="More"
      head={
        <>
          <h2 className="font-semibold">Webhooks</h2>
          <span className="sounding text-faint" role="status" aria-label="how many">
            {found.isSuccess ? counted(items.length, "webhook") : ""}
          </span>
          <form className="ml-auto flex min-w-0 items-center gap-2" onSubmit={make}>
            <label className="sr-only" htmlFor="webhook-url">
              Address
            </label>
            <input
              id="webhook-url"
              name="url"
              required
              className={`${field} w-80`}
              placeholder="https://example.org/in"
            />
            <Button type="submit" className="shrink-0 whitespace-nowrap">
              Send there
            </Button>
          </form>
        </>
      }
    >
      {made && (
        <p role="status" className="border-b border-line bg-shoal px-3 py-2">
          Requests to {made.url} are signed with <code className="break-all select-all">{made.secret}</code>.
          It is shown here and never again.{" "}
          <Button className="ml-2" onClick={() => setMade(null)}>
            I have it
          </Button>
        </p>
      )}
      {found.isSuccess && items.length === 0 ? (
        <p className="p-4 text-faint">
          Nothing is sent anywhere. Give an address of your own backend: from then on it is told of all that
          changes.
        </p>
      ) : (
        <table className="w-full">
          <caption className="sr-only">Where changes are sent to</caption>
          <Columns names={["To", "Of", "Stands", "Behind", "Made"]} last="What to do" />
          <tbody>
            {items.map((one) => (
              <Fragment key={one.webhook_id}>
                <Row
                  one={one}
                  open={open === one.webhook_id}
                  onOpen={() => setOpen(open === one.webhook_id ? null : one.webhook_id)}
                  onAct={act}
                />
                {open === one.webhook_id && (
                  <tr className="border-b border-line bg-shoal">
                    <td colSpan={6} className="px-3 py-2">
                      <Answers one={one} onAct={act} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
      )}
    </PagedPlace>
  );
}

type Act = (work: Promise<unknown>) => Promise<void>;

function Row(props: { one: Webhook; open: boolean; onOpen: () => void; onAct: Act }) {
  const { one, open, onOpen, onAct } = props;
  const { seat } = useSeat();
  const params = { path: { webhook_id: one.webhook_id } };
  const state = one.state === "active" ? "paused" : "active";
  return (
    <tr className="border-b border-line">
      <td className="max-w-80 truncate px-3 py-1" title={one.url}>
        {one.url}
      </td>
      <td className="px-3">{one.conversation_id ? "one conversation" : "everything"}</td>
      <td className={`px-3 ${one.state !== "active" || one.attempt ? "text-buoy" : "text-chart"}`}>
        {standing(one, Date.now())}
      </td>
      <td className={`sounding px-3 ${one.behind >= 1 ? "text-buoy" : ""}`}>
        {count(Math.round(one.behind))} s
      </td>
      <td className="sounding px-3" title={exactTime(one.created_at)}>
        {shortTime(one.created_at)}
      </td>
      <td className="px-3 text-right whitespace-nowrap">
        <Button aria-expanded={open} aria-label={`Answers of ${one.url}`} onClick={onOpen}>
          Answers
        </Button>{" "}
        <Button
          aria-label={`${state === "paused" ? "Pause" : "Go on with"} ${one.url}`}
          onClick={() => void onAct(answered(seat.api.PATCH(ONE, { params, body: { state } })))}
        >
          {state === "paused" ? "Pause" : "Go on"}
        </Button>
      </td>
    </tr>
  );
}

/** What came of the last requests, and what can be done to them all: send again, or take the webhook away. */
function Answers({ one, onAct }: { one: Webhook; onAct: Act }) {
  const { seat } = useSeat();
  const [sure, setSure] = useState(false);
  const params = { path: { webhook_id: one.webhook_id } };
  const found = useQuery({
    queryKey: ["webhook answers", one.webhook_id, seat.userId],
    refetchInterval: 3_000,
    queryFn: () =>
      answered(
        seat.api.GET("/v1/webhooks/{webhook_id}/deliveries", {
          params: { ...params, query: { limit: 20 } },
        }),
      ),
  });
  const replay = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const local = String(new FormData(event.currentTarget).get("from") ?? "");
    const body = { from: new Date(local).toISOString() };
    void onAct(answered(seat.api.POST("/v1/webhooks/{webhook_id}/replay", { params, body })));
  };
  const remove = () => (sure ? void onAct(answered(seat.api.DELETE(ONE, { params }))) : setSure(true));
  return (
    <>
      <div className="flex flex-wrap items-center gap-3 pb-2">
        <form className="flex items-center gap-2" onSubmit={replay}>
          <label className="flex items-center gap-2 whitespace-nowrap">
            Messages made since
            <input type="datetime-local" name="from" required className={`${field} w-56`} />
          </label>
          <Button type="submit" className="whitespace-nowrap">
            Send again
          </Button>
        </form>
        <Button className="ml-auto" onClick={remove}>
          {sure ? "Take it away for good" : "Take away"}
        </Button>
      </div>
      {found.data?.items.length === 0 && <p className="text-faint">Nothing was sent yet.</p>}
      {found.error && (
        <p role="alert" className="text-buoy">
          {found.error.message}
        </p>
      )}
      <table className="w-full">
        <caption className="sr-only">What came of the last requests</caption>
        <Columns names={["At", "Try", "Answer", "ms", "Error", "Again"]} />
        <tbody>
          {found.data?.items.map((request) => (
            <tr key={request.at} className="border-t border-line">
              <td className="sounding px-3" title={exactTime(request.at)}>
                {shortTime(request.at)}
              </td>
              <td className="sounding px-3">{request.attempt}</td>
              <td className={`sounding px-3 ${request.error ? "text-buoy" : "text-chart"}`}>
                {request.status ?? "none"}
              </td>
              <td className="sounding px-3">{count(request.ms)}</td>
              <td className="px-3">{request.error}</td>
              <td className="sounding px-3 text-faint">
                {request.next_at ? shortTime(request.next_at) : ""}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
