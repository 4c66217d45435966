import { useEffect, useState } from "react";

/** Whether this page is of an older version than what the browser has of the console now: its service worker has been
 * replaced, or a part of it is gone. `online`: the line is there, also after a restart of the service, which may have
 * brought another version. */
export function useUpdated(online: boolean): boolean {
  const [updated, setUpdated] = useState(false);
  useEffect(() => {
    const workers = navigator.serviceWorker as ServiceWorkerContainer | undefined;
    const note = () => setUpdated(true);
    // The first worker of all takes over a page that was loaded without one, and of the same version.
    const replaced = workers?.controller ? note : undefined;
    if (replaced) workers?.addEventListener("controllerchange", replaced);
    window.addEventListener("vite:preloadError", note);
    return () => {
      if (replaced) workers?.removeEventListener("controllerchange", replaced);
      window.removeEventListener("vite:preloadError", note);
    };
  }, []);
  useEffect(() => {
    if (!online) return;
    navigator.serviceWorker
      ?.getRegistration()
      .then((found) => found?.update())
      .catch(() => undefined); // the next time
  }, [online]);
  return updated;
}
