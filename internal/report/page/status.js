"use strict";
(() => {
  const $ = (id) => document.getElementById(id);
  const main = document.querySelector("main"), told = $("told"), ask = $("ask");
  document.documentElement.classList.add("js");

  // become changes a tree into another of nearly the same shape, so that what is
  // focused, chosen or scrolled stays so.
  function become(a, b) {
    if (a.nodeType !== b.nodeType || a.nodeName !== b.nodeName || a.id !== b.id) { a.replaceWith(b); return; }
    if (a.nodeType !== Node.ELEMENT_NODE) { if (a.data !== b.data) a.data = b.data; return; }
    for (const x of [...a.attributes]) if (!b.hasAttribute(x.name)) a.removeAttribute(x.name);
    for (const x of b.attributes) if (a.getAttribute(x.name) !== x.value) a.setAttribute(x.name, x.value);
    const as = [...a.childNodes], bs = [...b.childNodes];
    bs.forEach((n, i) => { if (i < as.length) become(as[i], n); else a.append(n); });
    as.slice(bs.length).forEach((n) => n.remove());
  }

  let lately = Date.now(), clear = 0;
  function say(text, bad, stays) {
    clearTimeout(clear);
    told.textContent = text;
    told.classList.toggle("bad", bad);
    if (text && !stays) clear = setTimeout(() => say("", false), 8000);
  }

  const live = new EventSource("live");
  live.onmessage = (e) => {
    const next = new DOMParser().parseFromString(JSON.parse(e.data), "text/html").querySelector("main");
    if (!next) return;
    become(main, next);
    document.title = main.dataset.title;
    lately = Date.now();
    if (document.documentElement.classList.contains("stale")) {
      document.documentElement.classList.remove("stale");
      say("", false);
    }
  };
  setInterval(() => {
    if (Date.now() - lately < 4000) return;
    document.documentElement.classList.add("stale");
    say("No word from the proxy since " + main.dataset.at + " of its clock: what is shown is old.", true, true);
  }, 1000);

  // Orders are asked about first, and told as JSON, which no other site's page can.
  const questions = {
    drain: (b) => ["Drain " + b.id + "?", "It keeps its sessions and what it has open (" + b.dataset.open + " now), and gets no new ones.", "Drain it"],
    park: (b) => ["Park " + b.id + "?", "It is taken out at once. What it has open (" + b.dataset.open + " now) may end; its sessions move or are refused.", "Park it"],
    return: (b) => ["Return " + b.id + "?", "It is let in again, as far as its probes allow, with the weight of the configuration.", "Return it"],
    weight: (b) => ["Another weight for " + b.id + "?", "It is " + b.dataset.weight + " now. With 0 it gets nothing new.", "Set it"],
  };
  let order = null, from = null;

  function question(b, what, button) {
    if (button.getAttribute("aria-disabled") === "true") return;
    const [title, says, yes] = questions[what](b);
    order = { backend: b.id, do: what, seen: b.dataset.seen };
    from = button.offsetParent && document.activeElement === button ? button : b;
    $("ask-what").textContent = title;
    $("ask-says").textContent = says;
    $("ask-yes").textContent = yes;
    $("ask-no").textContent = "";
    $("ask-for").value = "0";
    $("ask-for-row").hidden = what === "return";
    $("ask-weight-row").hidden = what !== "weight";
    $("ask-weight").value = b.dataset.weight;
    ask.showModal();
    (what === "weight" ? $("ask-weight") : $("ask-yes")).focus();
  }

  async function tell() {
    const lasts = Number($("ask-for").value);
    if (order.do === "weight") {
      const n = $("ask-weight").valueAsNumber;
      if (!Number.isInteger(n) || n < 0 || n > 10000) { $("ask-no").textContent = "A weight is a whole number from 0 to 10000."; return; }
      order.weight = n;
    }
    if (lasts && order.do !== "return") order.for = lasts; else delete order.for;
    let answer, text;
    try {
      answer = await fetch("operate", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(order) });
      text = (await answer.text()).trim();
    } catch {
      $("ask-no").textContent = "The proxy cannot be reached; nothing is known to have changed.";
      return;
    }
    if (answer.status === 409) {
      $("ask-no").textContent = text + ".";
      $("ask-yes").textContent = "All the same";
      order.insist = true;
      return;
    }
    if (!answer.ok) { $("ask-no").textContent = text; return; }
    const t = JSON.parse(text);
    ask.close();
    say(t.orders.map((o) => o.backend + " is " + o.after + "; it was " + o.before + ".").join(" ") + (t.kept || order.do === "return" ? "" : " A restart forgets it."), false);
  }
  $("ask-yes").addEventListener("click", tell);
  $("ask-weight").addEventListener("keydown", (e) => { if (e.key === "Enter") tell(); });
  $("ask-leave").addEventListener("click", () => ask.close());
  ask.addEventListener("close", () => { if (from && from.isConnected) from.focus(); });

  main.addEventListener("click", (e) => {
    const button = e.target.closest("button[data-do]");
    if (button) question(button.closest(".backend"), button.dataset.do, button);
  });

  const letters = { d: "drain", p: "park", r: "return", w: "weight" };
  document.addEventListener("keydown", (e) => {
    if (ask.open || e.ctrlKey || e.altKey || e.metaKey || e.target.closest("input, select")) return;
    const all = [...document.querySelectorAll(".backend")];
    const here = document.activeElement.closest(".backend");
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      const next = all[here ? all.indexOf(here) + (e.key === "ArrowDown" ? 1 : -1) : 0];
      if (next) { next.focus(); e.preventDefault(); }
      return;
    }
    const button = here && letters[e.key] && here.querySelector('button[data-do="' + letters[e.key] + '"]');
    if (button) { e.preventDefault(); question(here, letters[e.key], button); }
  });
})();
