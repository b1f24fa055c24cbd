// Before the first paint: the look chosen last, else what the system prefers.
document.documentElement.dataset.theme =
  localStorage.getItem("kovel-look") || (matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day");
