"use strict";
(function () {
  let kept = null; // read when it is first asked for: it may be large
  const data = () => (kept ??= JSON.parse(document.getElementById("data").textContent));
  const STEP = 200;
  const isAddress = (text) => /^https?:\/\//.test(text);
  const make = (tag, text) => {
    const node = document.createElement(tag);
    if (text !== undefined) node.textContent = text;
    return node;
  };
  const own = document.querySelector(".place").textContent.split(" ")[0].replace(/\/+$/, "");
  const short = (url) => (url.startsWith(own + "/") ? url.slice(own.length) : url);

  async function copy(text) {
    try {
      await navigator.clipboard.writeText(text);
    } catch (refused) {
      const area = make("textarea", text);
      document.body.append(area);
      area.select();
      document.execCommand("copy");
      area.remove();
    }
  }

  function grow(box) {
    const all = data()[box.dataset.cause];
    let rows = all, shown = 0, sorted = null;
    const tools = make("div"), label = make("label", "Filter "), input = make("input"), copied = make("button", "Copy URLs");
    tools.className = "tools";
    input.type = "search";
    label.append(input);
    copied.type = "button";
    const told = make("span");
    told.setAttribute("role", "status");
    tools.append(label, copied, told);
    const table = make("table"), head = make("tr"), body = make("tbody"), more = make("button", "Show more");
    more.type = "button";
    ["URL", "what", "set by"].forEach((name, place) => {
      const cell = make("th"), button = make("button", name);
      cell.scope = "col";
      button.type = "button";
      button.addEventListener("click", () => {
        const down = sorted === place;
        sorted = down ? null : place;
        rows = rows.slice().sort((a, b) => (a[place] < b[place] ? -1 : a[place] > b[place] ? 1 : 0) * (down ? -1 : 1));
        head.querySelectorAll("[aria-sort]").forEach((other) => other.removeAttribute("aria-sort"));
        cell.setAttribute("aria-sort", down ? "descending" : "ascending");
        again();
      });
      cell.append(button);
      head.append(cell);
    });
    const top = make("thead");
    top.append(head);
    table.append(top, body);
    box.replaceChildren(tools, table, more);

    function add() {
      const piece = document.createDocumentFragment();
      for (const [url, what, where] of rows.slice(shown, shown + STEP)) {
        const line = make("tr"), first = make("td"), text = make("bdi", short(url));
        if (isAddress(url)) {
          const link = make("a");
          link.href = url;
          link.rel = "noreferrer nofollow";
          link.append(text);
          first.append(link);
        } else first.append(text);
        const second = make("td"), third = make("td"), code = make("code");
        second.append(make("bdi", what));
        code.append(make("bdi", where));
        third.append(code);
        line.append(first, second, third);
        piece.append(line);
      }
      body.append(piece);
      shown = Math.min(shown + STEP, rows.length);
      more.hidden = shown >= rows.length;
      told.textContent = shown.toLocaleString("en") + " of " + rows.length.toLocaleString("en") + " shown";
    }
    function again() {
      body.replaceChildren();
      shown = 0;
      add();
    }
    let waiting;
    input.addEventListener("input", () => {
      clearTimeout(waiting);
      waiting = setTimeout(() => {
        const word = input.value.toLowerCase();
        rows = word ? all.filter((row) => row.some((cell) => cell.toLowerCase().includes(word))) : all;
        again();
      }, 120);
    });
    copied.addEventListener("click", async () => {
      await copy(rows.map((row) => row[0]).join("\n"));
      told.textContent = rows.length.toLocaleString("en") + " URLs copied";
    });
    more.addEventListener("click", add);
    add();
  }

  for (const box of document.querySelectorAll(".rows[data-more]")) {
    const all = "Show all " + Number(box.dataset.count).toLocaleString("en");
    const button = make("button", box.dataset.more === "all" ? all : "Filter, sort, copy");
    button.type = "button";
    button.className = "all";
    button.addEventListener("click", () => grow(box));
    box.append(button);
  }

  // every URL of the audit, read when the search box is first used
  const lookup = document.getElementById("lookup"), matches = document.getElementById("matches"), found = document.getElementById("found");
  const MOST = 50;
  let urls = null, pause;
  const word = (name, text) => {
    const line = make("p"), label = make("b", name + " ");
    line.append(label, make("bdi", text));
    return line;
  };
  function explain([url, state, reason, want, checks, into]) {
    const card = make("details"), head = make("summary"), inside = make("div");
    card.className = "match";
    head.append(make("bdi", short(url)), " ", make("b", urls.states[state]));
    inside.className = "inside";
    inside.append(word("State:", urls.states[state]));
    if (urls.reasons[reason]) inside.append(word("Set by:", urls.reasons[reason]));
    if (into) inside.append(word("Leads to:", short(into)));
    inside.append(word("Want:", want[0] === "(" ? want.slice(1, -1) + " (inferred)" : want));
    for (const check of checks) inside.append(word(urls.checks[check][0] + ":", urls.checks[check][1]));
    if (!checks.length) inside.append(word("Findings:", "none"));
    card.append(head, inside);
    return card;
  }
  lookup.addEventListener("input", () => {
    clearTimeout(pause);
    pause = setTimeout(() => {
      urls ??= JSON.parse(document.getElementById("urls").textContent);
      const text = lookup.value.trim().toLowerCase();
      const rows = text ? urls.rows.filter((row) => row[0].toLowerCase().includes(text)) : [];
      matches.replaceChildren(...rows.slice(0, MOST).map(explain));
      if (rows.length === 1) matches.firstChild.open = true;
      const of = rows.length.toLocaleString("en") + (rows.length === 1 ? " URL" : " URLs");
      found.textContent = text ? (rows.length > MOST ? MOST + " of " + of + " shown" : of) : "";
    }, 120);
  });

  const filter = document.getElementById("filter"), told = document.getElementById("told");
  const cards = [...document.querySelectorAll(".cause")].map((card) => [card, card.querySelector("summary").textContent.toLowerCase()]);
  filter.addEventListener("input", () => {
    const word = filter.value.trim().toLowerCase();
    let count = 0;
    for (const [card, text] of cards) {
      card.hidden = word !== "" && !text.includes(word);
      count += card.hidden ? 0 : 1;
    }
    told.textContent = word ? count + " of " + cards.length + " causes" : "";
  });
  const show = () => {
    const card = location.hash.length > 1 && document.getElementById(location.hash.slice(1));
    if (card && card.tagName === "DETAILS") card.open = true;
  };
  addEventListener("hashchange", show);
  show();
  addEventListener("beforeprint", () => cards.forEach(([card]) => (card.open = true)));
})();
