import { useEffect, useState } from "react";
import { storageWords } from "../lib/storage";
import { Seat } from "../sync/seat";

/** Open a member's seat while it is shown, and end it after. */
export function useOpenedSeat(member: { userId: string; token: () => string } | null): {
  seat: Seat | null;
  problem: string;
} {
  const [seat, setSeat] = useState<Seat | null>(null);
  const [problem, setProblem] = useState("");
  useEffect(() => {
    let here = true;
    let opened: Seat | null = null;
    setSeat(null);
    if (!member) return;
    Seat.open(member.userId, member.token).then(
      (made) => {
        if (!here) return made.end();
        opened = made;
        setSeat(made);
      },
      (error: unknown) => here && setProblem(storageWords(error)),
    );
    return () => {
      here = false;
      opened?.end();
    };
  }, [member]);
  return { seat, problem };
}
