import { createContext, useContext } from "react";
import type { Seat } from "../sync/seat";
import type { Signed } from "./signIn";

export const SeatContext = createContext<{ seat: Seat; signed: Signed } | null>(null);

export function useSeat(): { seat: Seat; signed: Signed } {
  const found = useContext(SeatContext);
  if (!found) throw new Error("used outside of a signed-in seat");
  return found;
}
