import { useEffect, useState } from "react";
import type { Seat } from "../sync/seat";
import type { Place } from "../sync/seatFiles";

/** The address of a small picture, or why there is none; asked for again when the line comes back. */
export function usePicture(seat: Seat, place: Place): { address: string | null; problem: string } {
  const { conversation, seq, attachment, width } = place;
  const [address, setAddress] = useState<string | null>(null);
  const [problem, setProblem] = useState("");
  const live = seat.line.state === "live";
  // biome-ignore lint/correctness/useExhaustiveDependencies: a line that has come back is a reason to ask again
  useEffect(() => {
    let here = true;
    seat.files.picture({ conversation, seq, attachment, width }).then(
      (found) => {
        if (!here) return;
        setAddress(found);
        setProblem("");
      },
      (error: Error) => here && setProblem(error.message),
    );
    return () => {
      here = false;
    };
  }, [seat, conversation, seq, attachment, width, live]);
  return { address, problem };
}
