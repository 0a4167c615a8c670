// The element under which the extension draws, and its closed shadow root: nothing of it is
// part of the page.
export const host = document.createElement("div");
export const root = host.attachShadow({ mode: "closed" });
