// What every page needs: showing what is typed, forms that are sent once, printing.
import "./platform.js";

document.addEventListener("click", (e) => {
  const el = /** @type {HTMLElement} */ (e.target);
  const reveal = el.closest("[data-reveal]");
  if (reveal instanceof HTMLElement) {
    const ids = (reveal.dataset.reveal ?? "").split(" ");
    const fields = ids.map((id) => document.getElementById(id)).filter((f) => f instanceof HTMLInputElement);
    const show = fields[0]?.type === "password";
    for (const f of fields) f.type = show ? "text" : "password";
    reveal.textContent = show ? "Hide" : "Show";
  }
  if (el.closest("[data-print]")) window.print();
});

// A form is sent once: a second press while the first is under way does nothing.
document.addEventListener("submit", (e) => {
  const form = e.target;
  if (!(form instanceof HTMLFormElement) || !("once" in form.dataset)) return;
  if (form.dataset.sent) {
    e.preventDefault();
    return;
  }
  form.dataset.sent = "1";
  window.addEventListener("pageshow", () => delete form.dataset.sent, { once: true });
});

// After wrong master passwords the next try has to wait: the button counts down.
for (const b of document.querySelectorAll("button[data-wait]")) {
  if (!(b instanceof HTMLButtonElement)) continue;
  let left = Number(b.dataset.wait);
  const label = b.textContent;
  b.disabled = true;
  const tick = () => {
    b.textContent = left > 0 ? `${label} in ${left} s` : label;
    b.disabled = left > 0;
    if (left-- > 0) setTimeout(tick, 1000);
  };
  tick();
}
