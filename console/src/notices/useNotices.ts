import { useEffect } from "react";
import { useNavigate } from "react-router";
import type { Seat } from "../sync/seat";
import { keepToDate } from "./device";

/** Go where a notice that was pressed leads to, and keep this browser's subscription to date. */
export function useNotices(seat: Seat, live: boolean): void {
  const navigate = useNavigate();
  useEffect(() => {
    const heard = (event: MessageEvent<{ type?: string; path?: string }>) => {
      if (event.data?.type === "open" && event.data.path) void navigate(event.data.path);
    };
    navigator.serviceWorker?.addEventListener("message", heard);
    return () => navigator.serviceWorker?.removeEventListener("message", heard);
  }, [navigate]);
  useEffect(() => {
    if (live) keepToDate(seat).catch(() => undefined); // it is said again with the next line
  }, [seat, live]);
}
