import { useSyncExternalStore } from "react";
import type { Observable } from "../sync/observable";

/** Render again whenever it changes. */
export function useObservable<T extends Observable>(it: T): T {
  useSyncExternalStore(it.subscribe, it.getVersion);
  return it;
}
