import { answered } from "../api/client";
import { small } from "../lib/storage";
import type { Seat } from "../sync/seat";

const key = (userId: string) => `nestrel.device.${userId}`;

/** What this browser can do: tell, be asked for it, or why not. */
export type Ability = "told" | "may be asked" | "refused" | "cannot";

/** Whether a member is told in this browser. */
export function abilityOf(userId: string): Ability {
  if (!("serviceWorker" in navigator) || !("PushManager" in window) || !("Notification" in window))
    return "cannot";
  if (Notification.permission === "denied") return "refused";
  return small.get(key(userId)) && Notification.permission === "granted" ? "told" : "may be asked";
}

/** Ask for permission, as somebody has pressed for it, and have this browser told. */
export async function tellHere(seat: Seat): Promise<void> {
  if ((await Notification.requestPermission()) !== "granted")
    throw new Error("this browser was not allowed to notify you");
  const registration = await navigator.serviceWorker.ready;
  const { key: applicationServerKey } = await answered(seat.api.GET("/v1/push-key"));
  const subscription = await registration.pushManager
    .subscribe({ userVisibleOnly: true, applicationServerKey })
    .catch((error: Error) => {
      throw new Error(`this browser's push service cannot be had: ${error.message}`);
    });
  await put(seat, subscription);
}

async function put(seat: Seat, subscription: PushSubscription): Promise<void> {
  const { endpoint, keys, expirationTime } = subscription.toJSON();
  const body = {
    endpoint: endpoint ?? "",
    keys: { p256dh: keys?.p256dh ?? "", auth: keys?.auth ?? "" },
    expirationTime: expirationTime ?? null,
  };
  const kept = await answered(seat.api.PUT("/v1/me/push-subscriptions", { body }));
  small.set(key(seat.userId), kept.subscription_id);
}

/** A browser changes its subscriptions by itself now and then: say so of one that is told. */
export async function keepToDate(seat: Seat): Promise<void> {
  if (abilityOf(seat.userId) !== "told") return;
  const registration = await navigator.serviceWorker.ready;
  const subscription = await registration.pushManager.getSubscription();
  if (subscription) await put(seat, subscription);
  else small.set(key(seat.userId), null);
}

/** Tell nothing more in this browser; also where the service cannot be asked, for then the browser refuses it. */
export async function tellNoMore(seat: Seat): Promise<void> {
  const id = small.get(key(seat.userId));
  small.set(key(seat.userId), null);
  if (!id) return;
  const registration = await navigator.serviceWorker.ready;
  const subscription = await registration.pushManager.getSubscription();
  await subscription?.unsubscribe();
  const params = { path: { subscription_id: id } };
  await answered(seat.api.DELETE("/v1/me/push-subscriptions/{subscription_id}", { params }));
}
