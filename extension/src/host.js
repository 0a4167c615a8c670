// The element under which the extension draws, and its closed shadow root: nothing of it is
// part of the page.
import * as dom from "./dom.js";

const MARK = "data-red-locket";

// One that was left by a script that couldn't take it along: Firefox ends the scripts of an extension that is updated
// as they are.
for (const left of dom.all(document, `div[${MARK}]`)) left.remove();

export const host = document.createElement("div");
host.setAttribute(MARK, "");
export const root = host.attachShadow({ mode: "closed" });
