// The slip: asks whether a sign-in should be kept, and says how a change of password stands.
import { make } from "./make.js";
import { ask, button, close } from "./parts.js";
import { words } from "./words.js";

/**
 * @typedef {{id: string, kind: string, title: string, username: string, address: string, folder: string, update?:
 * string, bad?: string}} Slip
 */

const SLIP_HEADS = /** @type {Record<string, string>} */ ({
  keep: "Keep this sign-in?",
  update: "Keep the new password?",
  confirmed: "The new password is kept",
  waiting: "The new password waits",
  joined: "Your new sign-in is kept",
  refused: "The site didn’t take it",
});
const SLIP_SAYS = /** @type {Record<string, string>} */ ({
  confirmed: "The site accepted it. The old one stays under “History”.",
  joined: "The site accepted it. You can change its name or folder.",
  waiting: "Sign in with it once, and it becomes this login’s own. Until then both are at hand.",
  refused: "The password before is still the right one. The new one stays at hand until you step back.",
});

/** @param {Slip} s */
export function slip(s) {
  const p = make("section", "paper slip");
  p.setAttribute("aria-label", "Red Locket");
  p.append(make("h2", "", SLIP_HEADS[s.kind] ?? SLIP_HEADS.keep));
  if (SLIP_SAYS[s.kind]) p.append(make("p", "", SLIP_SAYS[s.kind]));
  /** @param {string} label @param {Node} value @param {Node} [act] */
  const row = (label, value, act) => {
    const r = make("div", "row");
    r.append(make("span", "", label), value, act ?? make("span"));
    p.append(r);
  };
  /** @param {string} value @param {string} label */
  const input = (value, label) => {
    const i = /** @type {HTMLInputElement} */ (make("input"));
    i.value = value;
    i.setAttribute("aria-label", label);
    return i;
  };
  const fresh = s.kind === "keep" || s.kind === "joined";
  const title = input(s.title, "Name"),
    folder = input(s.folder, "Folder"),
    works = input(s.address, "Address"),
    user = input(s.username, "User name");
  folder.placeholder = "none";
  row("Name", fresh ? title : make("span", "", s.title));
  row("User name", fresh && !s.username ? user : make("span", "", s.username || "none"));
  const dots = make("span", "", "● ● ● ● ● ●");
  row(
    fresh ? "Password" : "New one",
    dots,
    button("Show", "act", async () => {
      const v = await ask({ act: "slip-password", id: s.id });
      dots.textContent = v.password ?? v.error ?? words(v.trouble);
    }),
  );
  if (fresh) row("Folder", folder);
  row("Works at", fresh ? works : make("span", "", s.address));
  /** What is kept, as it was changed here. */
  const kept = () => ({
    act: "keep",
    slip: { ...s, title: title.value, folder: folder.value, address: works.value, username: user.value },
  });
  /** @param {Record<string, unknown>} m */
  const answer = async (m) => {
    const v = await ask(m);
    if (!v.error && !v.trouble) return close();
    for (const old of p.querySelectorAll(".trouble")) old.remove();
    p.append(make("div", "trouble", v.error ?? words(v.trouble)));
  };
  if (s.bad && (s.kind === "keep" || s.kind === "update")) {
    const bad = make("p", "known", `${s.bad} `);
    bad.append(button("Keep it, and make a new one", "act", () => void answer({ ...kept(), change: true })));
    p.append(bad);
  }
  const acts = make("div", "acts");
  /** @param {string} text */
  const keep = (text) => button(text, "main", () => void answer(kept()));
  const later = () =>
    button(["waiting", "confirmed", "joined"].includes(s.kind) ? "Close" : "Not now", "act", () =>
      s.kind === "waiting" ? close() : void answer({ act: "not-now", id: s.id }),
    );
  switch (s.kind) {
    case "confirmed":
      acts.append(
        later(),
        button("Keep the old one", "act", () => void answer({ act: "step-back", slip: s })),
      );
      break;
    case "joined":
      acts.append(
        keep("Keep it"),
        later(),
        button("Archive it", "act", () => void answer({ act: "put-away", slip: s })),
      );
      break;
    case "refused":
      acts.append(
        button("Keep the old one", "main", () => void answer({ act: "step-back", slip: s })),
        button("It did take it", "act", () => void answer({ act: "took", slip: s })),
        later(),
      );
      break;
    case "waiting":
      acts.append(
        later(),
        button("It worked", "act", () => void answer({ act: "took", slip: s })),
        button("Keep the old one", "act", () => void answer({ act: "step-back", slip: s })),
      );
      break;
    default:
      acts.append(
        keep(fresh ? "Keep" : "Update it"),
        later(),
        button("Never here", "act", () => void answer({ act: "never", id: s.id })),
      );
  }
  p.append(acts);
  return p;
}
