// What is seen of one of the extension's own frames where the browser itself doesn't say it: by pictures of the tab.
// The frame bears a grain too faint for an eye, made of chance anew for every picture. Two pictures differ by what the
// two grains differ by, at each place of the frame, only if nothing of the page's lies over it, thins it or moves it.
// The page can't see the grain, and doesn't know when a picture is taken.

/** The side of a grain, in CSS pixels. */
const GRAIN = 8;
/** How strong a grain is, of 255. */
const STRENGTH = 2;
/** How far a place may be off what its grains say, in levels: less than half of what an opaque cover would do. */
const OFF = 0.8;
/** The part of the places that may be off: where letters or the frame's border meet the picture's edge. */
const SOME = 0.01;
/** How long until the next picture, in milliseconds: while somebody is at the frame or nothing is known, and else. */
const AWAKE = 70,
  ASLEEP = 450;

/**
 * What a picture is of: the grains and the pixels, row by row.
 * @typedef {{grains: Uint8Array, columns: number, rows: number, width: number, height: number,
 * data: Uint8ClampedArray}} Picture
 */

/**
 * Whether two pictures show the same frame, whole and uncovered, each with its own grains.
 * @param {Picture} a @param {Picture} b
 */
export function agree(a, b) {
  if (a.width !== b.width || a.height !== b.height || a.columns !== b.columns || a.rows !== b.rows) return false;
  const columns = Math.floor(a.width / GRAIN),
    rows = Math.floor(a.height / GRAIN);
  if (columns < 4 || rows < 2) return false;
  let off = 0,
    told = 0;
  for (let y = 0; y < rows; y++)
    for (let x = 0; x < columns; x++) {
      const at = y * a.columns + x;
      const expected = (b.grains[at] - a.grains[at]) * STRENGTH;
      if (expected) told++;
      let sum = 0;
      for (let j = 0; j < GRAIN; j++) {
        let i = ((y * GRAIN + j) * a.width + x * GRAIN) * 4;
        for (let k = 0; k < GRAIN; k++, i += 4)
          sum += b.data[i] + b.data[i + 1] + b.data[i + 2] - a.data[i] - a.data[i + 1] - a.data[i + 2];
      }
      if (Math.abs(sum / (3 * GRAIN * GRAIN) - expected) > OFF) off++;
    }
  return told >= (columns * rows) / 4 && off <= Math.max(1, columns * rows * SOME);
}

/** @param {number} ms */
const pause = (ms) => new Promise((done) => setTimeout(done, ms));

/**
 * Watches a frame by pictures.
 * @param {() => Promise<string | undefined>} take takes a picture of the frame, as the address of its data; undefined
 * where it can't be, as when a part of the frame is outside the window
 * @param {(seen: boolean) => void} tell what each comparison says
 */
export function watchPictures(take, tell) {
  const canvas = document.createElement("canvas");
  canvas.setAttribute("aria-hidden", "true");
  canvas.style.cssText =
    "position:fixed;left:0;top:0;z-index:2147483647;pointer-events:none;image-rendering:pixelated;margin:0;border:0";
  /** @type {Picture | undefined} */
  let last;
  let missed = 0,
    on = false,
    near = false,
    turn = 0;
  /** @type {Promise<boolean> | undefined} */
  let looking;

  /** Draws new grains, and returns them. */
  function draw() {
    const columns = Math.ceil(innerWidth / GRAIN),
      rows = Math.ceil(innerHeight / GRAIN);
    const grains = crypto.getRandomValues(new Uint8Array(columns * rows)).map((g) => g & 1);
    canvas.width = columns;
    canvas.height = rows;
    canvas.style.width = `${columns * GRAIN}px`;
    canvas.style.height = `${rows * GRAIN}px`;
    if (canvas.parentNode !== document.documentElement) document.documentElement.append(canvas);
    const g = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
    const image = g.createImageData(columns, rows);
    grains.forEach((light, i) => image.data.set(light ? [255, 255, 255, STRENGTH] : [0, 0, 0, STRENGTH], i * 4));
    g.putImageData(image, 0, 0);
    return { grains, columns, rows };
  }

  /** @returns {Promise<Picture | undefined>} */
  async function picture() {
    const drawn = draw();
    await new Promise((done) => requestAnimationFrame(done));
    const url = await take();
    if (!url) return undefined;
    const bytes = Uint8Array.from(atob(url.slice(url.indexOf(",") + 1)), (c) => c.charCodeAt(0));
    const map = await createImageBitmap(new Blob([bytes], { type: "image/png" }));
    const flat = new OffscreenCanvas(map.width, map.height);
    const g = /** @type {OffscreenCanvasRenderingContext2D} */ (flat.getContext("2d", { willReadFrequently: true }));
    g.drawImage(map, 0, 0);
    const { width, height, data } = g.getImageData(0, 0, map.width, map.height);
    return { ...drawn, width, height, data };
  }

  /** Takes a picture and compares it with the one before. @returns {Promise<boolean>} */
  function look() {
    looking ??= (async () => {
      try {
        const now = await picture().catch(() => undefined);
        const before = last;
        last = now;
        const good = Boolean(before && now && agree(before, now));
        // A line that lights up under the pointer makes one pair differ; what lies over the frame makes the next too.
        missed = good ? 0 : missed + 1;
        if (good || missed > 1 || !now) tell(good);
        return good;
      } finally {
        looking = undefined;
      }
    })();
    return looking;
  }

  /** @param {number} mine */
  async function loop(mine) {
    await look();
    while (on && mine === turn) {
      await look();
      // by chance, so that nobody can be away just then
      const awake = () => near || missed > 0;
      for (let left = (awake() ? AWAKE : ASLEEP) * (0.5 + Math.random()); left > 0; left -= 30) {
        await pause(Math.min(left, 30));
        if (awake()) left = Math.min(left, AWAKE);
      }
    }
  }

  for (const kind of ["pointermove", "focus"])
    addEventListener(kind, () => (near = true), { capture: true, passive: true });
  document.addEventListener("pointerleave", () => (near = document.hasFocus()));
  addEventListener("blur", () => (near = false));

  return {
    start() {
      last = undefined;
      missed = 2;
      on = true;
      void loop(++turn);
    },
    stop() {
      on = false;
      canvas.remove();
    },
    /** Whether the frame is seen now. @returns {Promise<boolean>} */
    async now() {
      await looking; // one that was taken before doesn't count
      for (let i = 0; i < 3; i++) if (await look()) return true;
      return false;
    },
  };
}
