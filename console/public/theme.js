// Before the first paint: the theme that was chosen, or the system's.
try {
  const chosen = localStorage.getItem("nestrel.theme");
  if (chosen) document.documentElement.dataset.theme = chosen;
} catch {
  // The browser keeps nothing here: the system's it is.
}
