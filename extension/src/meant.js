// Whether a press in one of the extension's frames was meant: by a person, on something that had
// been there to see, whole, uncovered and in its place, for as long as one needs to read it. The
// page around can move, cover or show the frame as it likes; what it can't do is change what the
// browser says of it here, or what a picture of the tab shows where the browser says nothing.
import { watchPictures } from "./picture.js";

/** How long something has to have been seen, in milliseconds. */
export const READING = 250;
/** How far the pointer has to have moved, in pixels of the screen. */
const MOVED = 2;

/** Whether the browser says what is seen of a frame (Intersection Observer, version 2). */
const says = "isVisible" in IntersectionObserverEntry.prototype;

let shownAt = Infinity;
/** When the pointer last met the frame in another place of the screen than before. */
let movedAt = -Infinity;
let focusedAt = -Infinity;
/** Where the pointer was when the frame was shown. @type {{x: number, y: number} | undefined} */
let before;
let came = false;
/** Where the frame stands on the screen, by the pointer. @type {{x: number, y: number} | undefined} */
let place;
let visible = false;
let since = Infinity;

/** Takes down whether the frame is seen. @param {boolean} now @param {number} time */
function note(now, time) {
  if (now && !visible) since = time;
  visible = now;
}

/** @param {IntersectionObserverEntry} e */
function heard(e) {
  const now = Boolean(/** @type {any} */ (e).isVisible) && e.intersectionRatio >= 0.99;
  if (visible && !now) setTimeout(ask, AGAIN);
  note(now, e.time);
}

/** @param {(list: IntersectionObserverEntry[]) => void} hear */
const observer = (hear) =>
  new IntersectionObserver(
    hear,
    /** @type {IntersectionObserverInit} */ ({ threshold: [0, 0.5, 0.99, 1], trackVisibility: true, delay: 100 }),
  );

const watcher = says ? observer((list) => list.forEach(heard)) : undefined;

/** Takes a picture of this frame. @type {() => Promise<string | undefined>} */
let take = async () => undefined;
/** @param {() => Promise<string | undefined>} how */
export const onTake = (how) => (take = how);
const pictures = says
  ? undefined
  : watchPictures(
      () => take(),
      (seen) => note(seen, performance.now()),
    );

/** Notes that something is shown. @param {{x: number, y: number} | undefined} pointer where it is on the screen */
export function shown(pointer) {
  shownAt = performance.now();
  before = pointer;
  place = undefined; // where the frame stood for what it showed before says nothing of this
  came = false;
  visible = false;
  since = Infinity;
  if (pictures) pictures.start();
  else ask();
}

/** Notes that nothing is shown any more. */
export function hidden() {
  shownAt = Infinity;
  visible = false;
  pictures?.stop();
}

/** How often the browser is asked again, in ms: what changes around a frame may not make it look at the frame anew. */
const AGAIN = 120;
let asking = 0;

function ask() {
  if (!watcher) return;
  clearTimeout(asking);
  watcher.disconnect();
  watcher.observe(document.documentElement);
  asking = setTimeout(() => !visible && document.body.firstElementChild && ask(), AGAIN);
}

/** Notes that what is shown was put elsewhere. @param {{x: number, y: number} | undefined} pointer where it is then */
export function moved(pointer) {
  movedAt = performance.now();
  before = pointer;
  came = false; // it has to come to where this is now
}

/** How long the browser has to say once more that the frame is seen: its first word may come before it looked. */
const ANEW = 240;

/** What the browser says of the frame anew. @returns {Promise<boolean>} */
function seenNow() {
  if (pictures) return pictures.now();
  return new Promise((done) => {
    const once = observer((list) => {
      const e = list[list.length - 1];
      if (/** @type {any} */ (e).isVisible && e.intersectionRatio >= 0.99) end(true);
    });
    const look = () => {
      once.disconnect();
      once.observe(document.documentElement);
    };
    const again = setInterval(look, ANEW / 3);
    const late = setTimeout(() => end(false), ANEW);
    /** @param {boolean} yes */
    function end(yes) {
      clearInterval(again);
      clearTimeout(late);
      once.disconnect();
      done(yes);
    }
    look();
  });
}

for (const kind of ["pointermove", "pointerdown"])
  addEventListener(
    kind,
    (/** @type {any} */ e) => {
      if (!e.isTrusted) return;
      const at = { x: e.screenX - e.clientX, y: e.screenY - e.clientY };
      if (place && (Math.abs(place.x - at.x) > MOVED || Math.abs(place.y - at.y) > MOVED)) movedAt = e.timeStamp;
      place = at;
      if (e.pointerType !== "mouse")
        came = true; // a finger comes with its press
      else if (!before || Math.abs(e.screenX - before.x) > MOVED || Math.abs(e.screenY - before.y) > MOVED) came = true;
    },
    true,
  );
addEventListener("focus", (e) => (focusedAt = Math.max(focusedAt, e.timeStamp)));

/** Whether what is shown has been seen for long enough by now. */
export function ripe() {
  const now = performance.now();
  const still = now - shownAt >= READING && now - movedAt >= READING && now - focusedAt >= READING;
  return still && visible && now - since >= READING;
}

/** @param {MouseEvent} e a click, of a pointer or a key @returns {Promise<boolean>} */
export async function meant(e) {
  const t = e.timeStamp;
  if (!e.isTrusted || t - shownAt < READING || t - movedAt < READING) return false;
  const byPointer = e.detail > 0;
  if (byPointer ? !came : t - focusedAt < READING) return false;
  return visible && t - since >= READING && (await seenNow());
}
