"use strict";
(() => {
  // src/line.js
  var api = globalThis.browser ?? chrome;

  // src/make.js
  function make(tag, cls, text) {
    const el = document.createElement(tag);
    if (cls) el.className = cls;
    if (text !== void 0) el.textContent = text;
    return el;
  }

  // src/alarm.js
  function address(parts) {
    const dd = make("dd");
    for (const p of parts) dd.append(p.mark ? make("mark", "", p.text) : p.text);
    return dd;
  }
  function button(text, cls, act) {
    const b = make("button", cls, text);
    b.onclick = (e) => {
      if (e.isTrusted) void api.runtime.sendMessage({ act, alarm: location.hash.slice(1) });
    };
    return b;
  }
  async function show() {
    const a = await api.runtime.sendMessage({ act: "alarm", alarm: location.hash.slice(1) });
    const p = make("main", "paper alarm");
    if (!a?.alarm) {
      p.append(make("h2", "", "This warning is over"), make("p", "", "The tab was used for something else since."));
      document.body.replaceChildren(p);
      return;
    }
    const { title, here, there, why } = a.alarm;
    document.title = `Not ${title} · Red Locket`;
    const dl = make("dl");
    dl.append(make("dt", "", "The page"), address(here), make("dt", "", "Yours"), address(there));
    const acts = make("div", "acts");
    acts.append(
      button("Go to mine instead", "main", "alarm-leave"),
      button("This is right …", "act", "alarm-vouch"),
      button("Show the page, without filling", "act", "alarm-show")
    );
    p.append(
      make("h2", "", `This is not the ${title} you know`),
      make("p", "", "Its address is made to look like one that you keep. Nothing is offered or filled there."),
      dl,
      make("p", "", why),
      acts
    );
    document.body.replaceChildren(p);
  }
  void show();
})();
