// Holds the one line to the device app and passes on what it says to every page.
"use strict";

/** @type {Set<MessagePort>} */
const ports = new Set();
/** @type {EventSource | undefined} */
let line;

/** @param {string} kind @param {string} data */
function tell(kind, data) {
  for (const p of ports) p.postMessage({ kind, data });
}

function open() {
  if (line && line.readyState !== EventSource.CLOSED) return;
  line = new EventSource("/events");
  for (const kind of ["changed", "status", "left"]) line.addEventListener(kind, (e) => tell(kind, e.data));
  line.addEventListener("locked", () => {
    line?.close();
    over();
  });
  // A closed line that won't open again by itself mostly means that the vault is no longer open here.
  line.onerror = () => {
    if (line?.readyState === EventSource.CLOSED) over();
  };
}

/** Tells all pages that the vault is locked, as it seems. Who finds it open stays, and hears more. */
function over() {
  tell("locked", "");
  setTimeout(() => ports.size && open(), 2000);
}

// @ts-ignore: a shared worker's own event
self.onconnect = (/** @type {MessageEvent} */ e) => {
  const port = e.ports[0];
  ports.add(port);
  port.onmessage = (m) => {
    if (m.data !== "bye") return;
    ports.delete(port);
    if (!ports.size) line?.close();
  };
  port.start();
  open();
};
