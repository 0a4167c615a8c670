// Connects this browser to a vault. Nothing begins, and nothing is replaced, but by a press in this
// page: it says whose vault it is, and shows the four words that both sides have to have.
import { LineError, api, connect, keepConnection, loadConnection, vaults } from "./line.js";
/** @import { Connection } from "./line.js" */

/** @param {string} id @returns {HTMLElement} */
const $ = (id) => /** @type {HTMLElement} */ (document.getElementById(id));
const address = /** @type {HTMLInputElement} */ ($("app"));

/** What this browser is called, as far as it says. */
function browserName() {
  const ua = navigator.userAgent;
  return ua.includes("Firefox/") ? "Firefox" : "Chromium";
}

/** The steps of the page, one of which is shown. @param {"form" | "whose" | "compare" | "done"} step */
function show(step) {
  for (const id of ["form", "whose", "compare", "done"]) $(id).hidden = id !== step;
}

/** @param {unknown} err */
function trouble(err) {
  show("form");
  $("say").textContent =
    err instanceof LineError && err.kind === "over"
      ? "It took too long. Please try again."
      : "Nobody answers at that address as Red Locket does. Is it running?";
}

$("form").addEventListener("submit", async (e) => {
  e.preventDefault();
  const app = address.value
    .trim()
    .replace(/^https?:\/\//, "")
    .replace(/\/.*$/, "");
  if (!/^(localhost|[a-z0-9-]+(\.[a-z0-9-]+)*\.localhost|127\.0\.0\.1)(:\d{1,5})?$/i.test(app)) {
    $("say").textContent =
      "Red Locket runs on this computer: its address ends in .localhost and a number, like redlocket.localhost:7301.";
    return;
  }
  $("say").textContent = "Looking for Red Locket …";
  try {
    const list = await vaults(app);
    $("say").textContent = list.length ? "" : "Red Locket is there, but has no vault yet.";
    if (!list.length) return;
    $("whose-at").textContent = app;
    $("vaults").replaceChildren(
      ...list.map((v) => {
        const li = document.createElement("li");
        const b = Object.assign(document.createElement("button"), { className: "main" });
        b.textContent = `Connect to ${v.name}’s vault`;
        b.onclick = () => void ask(app, v.id);
        li.append(b, Object.assign(document.createElement("span"), { textContent: v.email }));
        return li;
      }),
    );
    show("whose");
  } catch (err) {
    trouble(err);
  }
});

/** @param {string} app @param {string} vault */
async function ask(app, vault) {
  $("yes").hidden = true;
  $("answer").textContent = "";
  $("words").replaceChildren();
  show("compare");
  try {
    const c = await connect({
      app,
      vault,
      name: browserName(),
      show: (words) => {
        $("words").replaceChildren(
          ...words.map((w) => Object.assign(document.createElement("li"), { textContent: w })),
        );
        $("answer").textContent = "Waiting for Red Locket …";
      },
    });
    if (!c) {
      show("form");
      $("say").textContent = "Refused in Red Locket. Nothing was connected.";
      return;
    }
    $("answer").textContent = `The vault of ${c.name} at ${c.app} says yes. Does it show the same four words?`;
    const yes = /** @type {HTMLButtonElement} */ ($("yes"));
    yes.textContent = `The same words: connect to ${c.name}’s vault`;
    yes.hidden = false;
    yes.onclick = () => void take(c);
  } catch (err) {
    trouble(err);
  }
}

/** @param {Connection} c */
async function take(c) {
  await keepConnection(c);
  await api.runtime.sendMessage({ act: "connected" });
  show("done");
  $("connected").textContent = `Connected to ${c.name}’s vault. Sign-in pages now show the clasp at their fields.`;
  await offerToStop();
}

$("no").onclick = () => {
  show("form");
  $("say").textContent = "Nothing was connected.";
};

/** The permission to change how the browser saves passwords itself: asked for when that is wanted. */
const PRIVACY = /** @type {chrome.permissions.Permissions} */ ({ permissions: ["privacy"] });

/** Offers to turn off the browser's own password saving, unless it is known to be off or not to be changed. */
async function offerToStop() {
  if (await api.permissions.contains(PRIVACY)) {
    const now = await api.privacy.services.passwordSavingEnabled.get({});
    if (!now.value || !/^controll/.test(now.levelOfControl)) return;
  }
  const p = $("saving");
  p.hidden = false;
  $("stop").onclick = async () => {
    const left = "The browser’s own password saving was left as it is.";
    try {
      if (!(await api.permissions.request(PRIVACY))) p.textContent = left;
      else {
        await api.privacy.services.passwordSavingEnabled.set({ value: false });
        p.textContent = "This browser’s own password saving is off. What it has saved stays where it is.";
      }
    } catch {
      p.textContent = left;
    }
  };
}

async function begin() {
  // Come from Red Locket's own page, there is nothing to type.
  const asked = new URLSearchParams(location.search).get("app");
  if (asked) address.value = asked;
  show("form");
  const now = await loadConnection();
  if (!now) return;
  $("present").hidden = false;
  $("present").textContent =
    `This browser is connected to ${now.name}’s vault at ${now.app}. ` +
    "It stays so until another connection is finished here.";
}
void begin();
