// Everything works without this: it finds in lists, closes what is left, and offers what can be written.
"use strict";
document.querySelectorAll("input.find").forEach((box) => {
  box.addEventListener("input", () => {
    const words = box.value.toLowerCase().split(/\s+/);
    const list = box.parentElement.querySelector(".choices");
    list.querySelectorAll("label").forEach((label) => {
      const text = label.textContent.toLowerCase();
      label.hidden = !words.every((word) => text.includes(word));
      label.style.display = label.hidden ? "none" : "";
    });
    list.querySelectorAll("fieldset").forEach((set) => {
      set.hidden = !set.querySelector("label:not([hidden])");
    });
  });
});
const parts = [...document.querySelectorAll("details.part")];
document.addEventListener("click", (event) => {
  parts.filter((part) => part.open && !part.contains(event.target)).forEach((part) => { part.open = false; });
});
document.addEventListener("keydown", (event) => {
  if (event.key !== "Escape") return;
  parts.filter((part) => part.open).forEach((part) => { part.open = false; part.querySelector("summary").focus(); });
});
parts.forEach((part) => part.addEventListener("toggle", () => {
  if (!part.open) return;
  parts.filter((other) => other !== part).forEach((other) => { other.open = false; });
  const find = part.querySelector("input.find");
  if (find) find.focus();
}));
const why = document.getElementById("why");
if (why) why.focus();
const box = document.getElementById("text");
const offers = document.getElementById("offers");
if (box && offers) {
  let shown = [];
  let at = 0;
  const close = () => { offers.hidden = true; shown = []; };
  const mark = () => [...offers.children].forEach((item, i) => item.setAttribute("aria-selected", String(i === at)));
  const take = (offer) => {
    box.setRangeText(offer.text, offer.from, offer.to, "end");
    close();
    box.focus();
  };
  box.addEventListener("input", async () => {
    const cursor = box.selectionStart;
    const asked = new URLSearchParams({ text: box.value, cursor: String(cursor) });
    const reply = await fetch(`${box.dataset.complete}?${asked}`);
    if (!reply.ok || box.selectionStart !== cursor) return close();
    shown = await reply.json();
    at = 0;
    offers.replaceChildren(...shown.map((offer) => {
      const item = document.createElement("li");
      item.setAttribute("role", "option");
      item.append(offer.text);
      const about = document.createElement("span");
      about.className = "soft";
      about.textContent = `  ${offer.about}`;
      item.append(about);
      item.addEventListener("mousedown", (event) => { event.preventDefault(); take(offer); });
      return item;
    }));
    offers.hidden = shown.length === 0;
    mark();
  });
  box.addEventListener("keydown", (event) => {
    if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) { box.form.requestSubmit(); return; }
    if (offers.hidden) return;
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      at = (at + (event.key === "ArrowDown" ? 1 : shown.length - 1)) % shown.length;
      mark();
      event.preventDefault();
    } else if (event.key === "Tab" || event.key === "Enter") {
      take(shown[at]);
      event.preventDefault();
    } else if (event.key === "Escape") {
      close();
      event.stopPropagation();
    }
  });
  box.addEventListener("blur", close);
}
