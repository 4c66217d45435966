// Before the first paint: the theme that was chosen, or the system's.
const chosen = localStorage.getItem("nestrel.theme");
if (chosen) document.documentElement.dataset.theme = chosen;
