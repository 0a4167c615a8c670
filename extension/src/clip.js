// The page that nobody sees: where the background has no clipboard of its own, it writes to it here.
"use strict";

chrome.runtime.onMessage.addListener((m, sender, reply) => {
  if (m.act !== "clip" || sender.id !== chrome.runtime.id || sender.tab) return; // never for a page
  const text = /** @type {HTMLTextAreaElement} */ (document.getElementById("text"));
  text.value = m.text || " "; // nothing at all can't be copied
  text.select();
  const done = document.execCommand("copy"); // the newer interface wants a page in front
  text.value = "";
  reply({ done });
});
