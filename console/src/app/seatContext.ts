import { createContext, useContext } from "react";
import type { Seat } from "../sync/seat";
import type { Signed, SignIn } from "./signIn";

export const SeatContext = createContext<{ seat: Seat; signed: Signed; signIn: SignIn } | null>(null);

export function useSeat(): { seat: Seat; signed: Signed; signIn: SignIn } {
  const found = useContext(SeatContext);
  if (!found) throw new Error("used outside of a signed-in seat");
  return found;
}
