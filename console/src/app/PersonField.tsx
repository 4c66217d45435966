import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useDeferredValue, useState } from "react";
import { answered, type Profile } from "../api/client";
import { type Choice, useChoices } from "./Choices";
import { useSeat } from "./seatContext";
import { field } from "./ui";

const SHOWN = 8;

type Props = {
  id: string;
  label: string;
  chosen: Profile[];
  onChange: (chosen: Profile[]) => void;
  /** At most so many. */
  most?: number;
  invalid?: boolean;
  describedBy?: string | undefined;
};

/** Choose people by name from the directory. Whoever is not in it yet, as nobody shares a conversation with them, can
 * be given by the user id. */
export function PersonField({ id, label, chosen, onChange, most = 1000, invalid, describedBy }: Props) {
  const { seat } = useSeat();
  const [text, setText] = useState("");
  const sought = useDeferredValue(text.trim());
  const found = useQuery({
    queryKey: ["people", sought, seat.userId],
    queryFn: () =>
      answered(seat.api.GET("/v1/people", { params: { query: { q: sought, limit: 2 * SHOWN } } })),
    enabled: sought !== "",
    placeholderData: (before) => before,
  });
  const taken = new Set([seat.userId, ...chosen.map((one) => one.user_id)]);
  const people = sought === "" ? [] : (found.data?.items ?? []).filter((one) => !taken.has(one.user_id));
  const choices: Choice[] = people
    .slice(0, SHOWN)
    .map((one) => ({ key: one.user_id, label: one.display_name, detail: one.user_id }));
  const settled = found.isSuccess && sought === text.trim() && sought !== "";
  if (settled && choices.length === 0 && !taken.has(sought))
    choices.push({ key: sought, label: "Nobody you can see. Add the user id", detail: sought });

  const take = (userId: string) => {
    const person = people.find((one) => one.user_id === userId);
    onChange([...chosen, person ?? { user_id: userId, display_name: userId, picture: null, rev: 0 }]);
    setText("");
  };
  const full = chosen.length >= most;
  const { field: speaks, onKey, list } = useChoices(full ? [] : choices, take, () => setText(""), "People");

  return (
    <div className="relative min-w-0 flex-1">
      {chosen.length > 0 && (
        <ul aria-label="Chosen" className="mb-1 flex flex-wrap gap-1">
          {chosen.map((one) => (
            <li key={one.user_id} className="flex items-center gap-1 border border-line bg-shoal px-1.5">
              <span title={one.user_id}>{one.display_name}</span>
              <button
                type="button"
                aria-label={`Leave out ${one.display_name}`}
                onClick={() => onChange(chosen.filter((other) => other !== one))}
              >
                <X size={12} aria-hidden />
              </button>
            </li>
          ))}
        </ul>
      )}
      <input
        id={id}
        {...speaks}
        value={text}
        disabled={full}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => {
          if (onKey(event)) return;
          if (event.key === "Enter" && text !== "") event.preventDefault(); // a name is not chosen yet
          if (event.key === "Backspace" && text === "") onChange(chosen.slice(0, -1));
        }}
        autoComplete="off"
        aria-label={label}
        aria-invalid={invalid}
        aria-describedby={describedBy}
        placeholder={full ? "" : "Begin to type a name"}
        className={`${field} ${invalid ? "border-buoy" : ""}`}
      />
      {list}
    </div>
  );
}
