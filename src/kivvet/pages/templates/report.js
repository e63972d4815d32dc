"use strict";
(function () {
  const most = 40;
  const box = document.getElementById("search");
  const sought = document.getElementById("sought");
  const told = document.getElementById("told");
  const places = document.getElementById("places");
  const plain = (text) => text.normalize("NFKC").toLowerCase();
  const known = Array.from(document.querySelectorAll("[data-find]"), (element) => {
    const label = element.getAttribute("data-find");
    const heading = element.matches("article") ? element.querySelector("h3") : element;
    const cells = Array.from(heading.children, (one) => one.textContent.trim()).filter(Boolean);
    return { label, id: element.id, shown: element.matches("tr") ? cells.join(" · ") : heading.textContent.trim(), text: plain(label + " " + heading.textContent) };
  });
  function find() {
    const words = plain(sought.value).split(/\s+/).filter(Boolean);
    places.replaceChildren();
    if (!words.length) { told.textContent = ""; return; }
    const found = known.filter((one) => words.every((word) => one.text.includes(word)));
    told.textContent = found.length === 1 ? "1 place" : found.length + " places" + (found.length > most ? ", the first " + most + " of them here" : "");
    for (const one of found.slice(0, most)) {
      const item = document.createElement("li");
      const link = document.createElement("a");
      const more = document.createElement("span");
      link.href = "#" + one.id;
      link.textContent = one.label;
      more.textContent = " " + one.shown.slice(0, 90);
      item.append(link, more);
      places.append(item);
    }
  }
  box.hidden = false;
  sought.addEventListener("input", find);
  sought.addEventListener("keydown", (event) => {
    if (event.key === "Escape") { sought.value = ""; find(); }
    if (event.key === "Enter" && places.querySelector("a")) { places.querySelector("a").click(); }
  });
})();
