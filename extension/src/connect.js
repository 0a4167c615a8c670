// Connects this browser: shows the four words and waits for the app's answer.
import { LineError, api, connect } from "./line.js";

const form = /** @type {HTMLFormElement} */ (document.getElementById("form"));
const say = /** @type {HTMLElement} */ (document.getElementById("say"));
const list = /** @type {HTMLElement} */ (document.getElementById("words"));

/** What this browser is called, as far as it says. */
function browserName() {
  const ua = navigator.userAgent;
  return ua.includes("Firefox/") ? "Firefox" : "Chromium";
}

form.addEventListener("submit", async (e) => {
  e.preventDefault();
  const app = /** @type {HTMLInputElement} */ (document.getElementById("app")).value
    .trim()
    .replace(/^https?:\/\//, "")
    .replace(/\/.*$/, "");
  if (!/^(localhost|[a-z0-9-]+(\.[a-z0-9-]+)*\.localhost|127\.0\.0\.1)(:\d{1,5})?$/i.test(app)) {
    say.textContent =
      "Red Locket runs on this computer: its address ends in .localhost and a number, like redlocket.localhost:7301.";
    return;
  }
  form.hidden = true;
  try {
    say.textContent = "Looking for Red Locket …";
    const yes = await connect(app, browserName(), (words) => {
      say.textContent = "Red Locket shows four words under Devices. If they are these, press “The same words” there:";
      list.replaceChildren(...words.map((w) => Object.assign(document.createElement("li"), { textContent: w })));
    });
    list.replaceChildren();
    say.textContent = yes
      ? "Connected. Sign-in pages now show the clasp at their fields."
      : "Refused in Red Locket. Nothing was connected.";
    form.hidden = yes;
    if (yes) await offerToStop();
  } catch (err) {
    list.replaceChildren();
    form.hidden = false;
    say.textContent =
      err instanceof LineError && err.kind === "over"
        ? "It took too long. Please try again."
        : "Nobody answers at that address. Is Red Locket running?";
  }
});

/** Offers to turn off the browser's own password saving, where it is on and may be changed. */
async function offerToStop() {
  const saving = api.privacy.services.passwordSavingEnabled;
  const now = await saving.get({});
  if (!now.value || !/^controll/.test(now.levelOfControl)) return;
  const p = /** @type {HTMLElement} */ (document.getElementById("saving"));
  p.hidden = false;
  /** @type {HTMLElement} */ (document.getElementById("stop")).onclick = async () => {
    await saving.set({ value: false });
    p.textContent = "This browser’s own password saving is off. What it has saved stays where it is.";
  };
}

// Asked for on Red Locket's own page, there is nothing to type.
const asked = new URLSearchParams(location.search).get("app");
if (asked) {
  /** @type {HTMLInputElement} */ (document.getElementById("app")).value = asked;
  form.requestSubmit();
}
