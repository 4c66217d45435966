import { expect, it } from "vitest";
import type { ConversationCopy } from "./conversationCopy";
import { CommandRefused } from "./line";
import { type CommandOwner, SeatCommands } from "./seatCommands";

/** A line that refuses every command with one status; `asked` counts them. */
function refusing(status: number) {
  const state = { asked: 0 };
  const owner = {
    userId: "mara",
    line: {
      state: "live",
      command: () => {
        state.asked += 1;
        const problem = { type: "/problems/x", title: "no", status, detail: "no" };
        return Promise.reject(new CommandRefused(problem as ConstructorParameters<typeof CommandRefused>[0]));
      },
    },
    unreadIs: () => {},
  } as unknown as CommandOwner;
  return { state, commands: new SeatCommands(owner) };
}

const copy = { id: "01", readSeqOf: () => 0 } as unknown as ConversationCopy;

it("says how far one has read again where that may pass, and once where it is refused for good", async () => {
  for (const [status, times] of [
    [429, 3],
    [403, 1],
  ] as const) {
    const { state, commands } = refusing(status);
    for (let look = 0; look < 3; look++) await commands.read(copy, 7);
    expect([status, state.asked]).toEqual([status, times]);
  }
});
