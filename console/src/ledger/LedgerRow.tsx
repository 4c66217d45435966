import { Boundary } from "../app/Boundary";
import { Button } from "../app/ui";
import type { ConversationCopy, Row } from "../sync/conversationCopy";
import type { Seat } from "../sync/seat";
import { MessageRow } from "./MessageRow";
import { GapRow, PendingRow, TornRow } from "./rows";

/** One row of the ledger, whatever stands there; one that cannot be drawn leaves the others as they are. */
export function LedgerRow(props: Props) {
  const { row } = props;
  const seq = row.kind === "message" ? row.message.seq : null;
  return (
    <Boundary
      of={row.kind === "message" ? row.message.rev : row.kind}
      instead={(error, again) => (
        <p role="alert" data-seq={seq ?? undefined} className="border-b border-line px-3 py-1 text-buoy">
          {seq === null ? "This row" : `Message ${seq}`} cannot be shown ({error.message}).{" "}
          <Button onClick={again}>Try again</Button>
        </p>
      )}
    >
      <Standing {...props} />
    </Boundary>
  );
}

type Props = {
  row: Row;
  previous: Row | undefined;
  copy: ConversationCopy;
  seat: Seat;
  load: (from: number, to: number, older: boolean) => Promise<void>;
  unreadFrom: number | null;
  marked: number | null;
  current: number | null;
  onCurrent: (seq: number) => void;
};

function Standing(props: Props) {
  const { row, previous, copy, seat, load, unreadFrom, marked, current, onCurrent } = props;
  if (row.kind === "torn") return <TornRow gone={row.gone} floor={row.floor} seat={seat} id={copy.id} />;
  if (row.kind === "gap")
    return <GapRow from={row.from} to={row.to} onLoad={() => void load(row.from, row.to, true)} />;
  if (row.kind === "pending")
    return (
      <PendingRow
        pending={row.pending}
        live={seat.line.state === "live"}
        part={seat.outbox.parts.get(row.pending.key)}
        onRetry={() => void seat.outbox.retry(row.pending.n)}
        onDrop={() => void seat.outbox.discard(row.pending.n)}
      />
    );
  const { message } = row;
  const before = previous?.kind === "message" ? previous.message.created_at : null;
  const newDay =
    before === null || new Date(before).toDateString() !== new Date(message.created_at).toDateString();
  return (
    <MessageRow
      message={message}
      waiting={row.waiting}
      copy={copy}
      seat={seat}
      newDay={newDay}
      unreadFrom={message.seq === unreadFrom}
      marked={message.seq === marked}
      current={message.seq === current}
      onCurrent={() => onCurrent(message.seq)}
    />
  );
}
