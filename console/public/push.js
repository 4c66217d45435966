// Beside what the service worker does for the shell: it shows what is pushed, and opens the conversation at a click.
/* global self, clients */

self.addEventListener("push", (event) => {
  const told = event.data?.json() ?? {};
  const title = told.title || told.author || "A new message";
  const words = told.body === undefined ? "" : told.body || "sent a file";
  const byAuthor = told.author && told.author !== title;
  const body = [byAuthor ? `${told.author}:` : "", words].filter(Boolean).join(" ");
  event.waitUntil(
    self.registration.showNotification(title, {
      body: [body, told.unread > 1 ? `${told.unread} unread` : ""].filter(Boolean).join("\n"),
      icon: "/console/mark.svg",
      // One for each conversation: the newest takes the place of the one before.
      tag: told.conversation_id,
      renotify: Boolean(told.conversation_id),
      data: { conversation: told.conversation_id, seq: told.seq },
    }),
  );
});

async function open({ conversation, seq }) {
  const path = conversation ? `/c/${conversation}?at=${seq}` : "/";
  const windows = await clients.matchAll({ type: "window", includeUncontrolled: true });
  const here = windows.find((one) => new URL(one.url).pathname.startsWith("/console/"));
  if (!here) return clients.openWindow(`/console${path}`);
  here.postMessage({ type: "open", path });
  return here.focus();
}

self.addEventListener("notificationclick", (event) => {
  event.notification.close();
  event.waitUntil(open(event.notification.data ?? {}));
});
