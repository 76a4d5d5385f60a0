"use strict";
// The page is whole without this: it filters, and opens what a link leads to.
(() => {
  const all = (selector, within = document) => [...within.querySelectorAll(selector)];
  const form = document.getElementById("filter"), words = document.getElementById("words");
  const said = document.getElementById("said"), fold = document.getElementById("fold");
  const groups = all("[data-group]"), sides = all("#sides input"), reasons = all("[data-reason]");
  const sections = all("[data-counted]").map((section) => {
    const count = section.querySelector("h2").appendChild(document.createElement("span"));
    count.className = "count";
    return { section, count, items: all("[data-item]", section) };
  });

  const numbers = (text) => (text ? text.split(" ").map(Number) : []);
  const items = sections.flatMap((s) => s.items).map((element) => {
    const group = element.closest("[data-group]"), item = { element, group };
    item.classes = element.dataset.classes === undefined ? null : numbers(element.dataset.classes);
    item.because = element.dataset.because === undefined ? null : numbers(element.dataset.because);
    return item;
  });
  // What an item is found by: what stands in it, and above it.
  const textOf = (item) => {
    if (item.text === undefined) {
      const above = item.group ? all(":scope > summary, :scope > .documents", item.group) : [];
      item.text = [...above, item.element].map((e) => e.textContent).join(" ").toLowerCase().replace(/\s+/g, " ");
    }
    return item.text;
  };

  const shown = (item, wanted, unwanted, chosen, pressed) => {
    const of = item.classes;
    if (of && chosen.length > 1 && chosen.every((s) => of[s] === of[chosen[0]])) return false;
    if (item.because && pressed.length > 0 && !pressed.some((r) => item.because.includes(r))) return false;
    if (wanted.length + unwanted.length === 0) return true;
    const text = textOf(item);
    return wanted.every((w) => text.includes(w)) && !unwanted.some((w) => text.includes(w));
  };

  const few = 200; // rows, of which all are opened
  let columns = "";
  const filter = () => {
    const given = words.value.toLowerCase().split(/\s+/).filter((w) => w !== "" && w !== "-");
    const wanted = given.filter((w) => w[0] !== "-");
    const unwanted = given.filter((w) => w[0] === "-").map((w) => w.slice(1));
    const chosen = sides.filter((s) => s.checked).map((s) => Number(s.value));
    const pressed = reasons.filter((r) => r.getAttribute("aria-pressed") === "true")
      .map((r) => Number(r.dataset.reason));
    if (sides.length > 0 && columns !== chosen.join()) {
      columns = chosen.join();
      for (const cell of all("[data-side]")) {
        cell.hidden = chosen.length > 0 && !chosen.includes(Number(cell.dataset.side));
      }
    }
    for (const item of items) item.element.hidden = !shown(item, wanted, unwanted, chosen, pressed);
    let found = 0;
    for (const group of groups) {
      const inside = all("[data-item]", group), visible = inside.filter((e) => !e.hidden).length;
      group.hidden = inside.length > 0 && visible === 0;
      found += visible;
    }
    if (given.length + pressed.length > 0 && found <= few) { // what was asked for is seen
      for (const group of groups) if (!group.hidden) group.open = true;
    }
    const counts = [];
    for (const { section, count, items } of sections) {
      const n = items.filter((e) => !e.hidden).length, name = section.dataset.counted;
      const of = n === items.length ? `${n}` : `${n} of ${items.length}`;
      count.textContent = section.dataset.said ? `${of} ${section.dataset.said}` : of;
      if (n !== items.length) counts.push(`${n} of ${items.length} ${name}s`);
    }
    said.textContent = counts.join(", ");
  };

  const reset = () => {
    for (const r of reasons) r.setAttribute("aria-pressed", "false");
    setTimeout(filter);
  };
  const follow = () => {
    const target = location.hash && document.getElementById(decodeURIComponent(location.hash.slice(1)));
    if (!target) return;
    if (target.closest("[hidden]")) {
      form.reset();
      for (const r of reasons) r.setAttribute("aria-pressed", "false");
      filter();
    }
    for (let d = target.closest("details"); d; d = d.parentElement.closest("details")) d.open = true;
    target.scrollIntoView();
  };

  words.addEventListener("input", filter);
  form.addEventListener("submit", (event) => event.preventDefault());
  form.addEventListener("reset", reset);
  for (const s of sides) s.addEventListener("change", filter);
  for (const r of reasons) {
    r.addEventListener("click", () => {
      r.setAttribute("aria-pressed", String(r.getAttribute("aria-pressed") !== "true"));
      filter();
    });
  }
  fold.addEventListener("click", () => {
    const folded = fold.getAttribute("aria-pressed") !== "true";
    fold.setAttribute("aria-pressed", String(folded));
    for (const group of groups) group.open = !folded;
  });
  fold.hidden = groups.length < 2;
  let closed = [];
  addEventListener("beforeprint", () => {
    closed = groups.filter((g) => !g.open);
    for (const g of closed) g.open = true;
  });
  addEventListener("afterprint", () => { for (const g of closed) g.open = false; });
  addEventListener("hashchange", follow);
  form.hidden = false;
  filter();
  follow();
})();
