"use strict";
(() => {
  // src/clip.js
  chrome.runtime.onMessage.addListener((m, sender, reply) => {
    if (m.act !== "clip" || sender.id !== chrome.runtime.id || sender.tab) return;
    const text = (
      /** @type {HTMLTextAreaElement} */
      document.getElementById("text")
    );
    text.value = m.text || " ";
    text.select();
    const done = document.execCommand("copy");
    text.value = "";
    reply({ done });
  });
})();
