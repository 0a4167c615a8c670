// Compares by camera what two screens show: reads the other's QR code from the camera's pictures, or from a photo.
import { SILENT } from "./reach.js";

/** How long the camera looks without finding anything, in milliseconds. */
const longest = 120_000;
/** How often it looks, in milliseconds. */
const every = 300;
/** The widest picture that is sent, in pixels. */
const widest = 960;

/** The camera that is on. @type {MediaStream | undefined} */
let camera;

function cameraOff() {
  for (const track of camera?.getTracks() ?? []) track.stop();
  camera = undefined;
  for (const video of document.querySelectorAll("[data-lens] video")) {
    if (video instanceof HTMLVideoElement) [video.srcObject, video.hidden] = [null, true];
  }
  for (const press of document.querySelectorAll("[data-lens] [data-camera]")) press.textContent = "Read their code";
}

/** Says how it is. @param {HTMLElement} lens @param {string} text @param {string} kind "", "done" or "trouble" */
function say(lens, text, kind) {
  const said = /** @type {HTMLElement} */ (lens.querySelector(".lens-said"));
  said.textContent = text;
  said.classList.toggle("done", kind === "done");
  said.classList.toggle("trouble", kind === "trouble");
  said.scrollIntoView({ block: "nearest" });
}

/**
 * Has a picture read; true where a code was found.
 * @param {HTMLElement} lens
 * @param {Blob} picture
 * @param {boolean} photo
 */
async function read(lens, picture, photo) {
  const resp = await fetch(lens.dataset.lens ?? "", {
    method: "POST",
    body: picture,
    headers: photo ? {} : { "X-By-Itself": "1" },
  });
  const text = await resp.text();
  const found = resp.ok || resp.status === 409;
  if (found) say(lens, text, resp.ok ? "done" : "trouble");
  else if (photo) say(lens, resp.status === 422 ? text : "The vault is locked. Load the page again.", "trouble");
  return found;
}

/** Looks through the camera until a code is found. @param {HTMLElement} lens */
async function look(lens) {
  const video = /** @type {HTMLVideoElement} */ (lens.querySelector("video"));
  /** @type {MediaStream} */
  let stream;
  try {
    stream = await navigator.mediaDevices.getUserMedia({ video: { facingMode: "environment", width: 1280 } });
  } catch {
    say(lens, "There is no camera, or this page may not use it. Choose a photo of their screen.", "trouble");
    return;
  }
  cameraOff();
  camera = stream;
  video.srcObject = stream;
  video.hidden = false;
  const press = lens.querySelector("[data-camera]");
  if (press) press.textContent = "Stop the camera";
  await video.play();
  say(lens, "Looking for their code …", "");
  const canvas = document.createElement("canvas");
  const until = Date.now() + longest;
  while (camera === stream && lens.isConnected && Date.now() < until) {
    const scale = Math.min(1, widest / (video.videoWidth || widest));
    canvas.width = video.videoWidth * scale;
    canvas.height = video.videoHeight * scale;
    canvas.getContext("2d")?.drawImage(video, 0, 0, canvas.width, canvas.height);
    const picture = await new Promise((done) => canvas.toBlob(done, "image/jpeg", 0.85));
    if (picture instanceof Blob && camera === stream && (await read(lens, picture, false))) break;
    await new Promise((done) => setTimeout(done, every));
  }
  if (camera !== stream) return;
  if (Date.now() >= until) say(lens, "No code was found. Move closer, or choose a photo of their screen.", "trouble");
  cameraOff();
}

document.addEventListener("click", (e) => {
  const press = e.target instanceof Element && e.target.closest("[data-camera]");
  const lens = press && press.closest("[data-lens]");
  if (!(lens instanceof HTMLElement)) return;
  if (camera) {
    cameraOff();
    say(lens, "", "");
    return;
  }
  look(lens).catch(() => {
    cameraOff();
    say(lens, SILENT, "trouble");
  });
});

document.addEventListener("change", (e) => {
  const input = e.target;
  const lens = input instanceof HTMLInputElement && input.type === "file" && input.closest("[data-lens]");
  const photo = lens && input.files?.[0];
  if (!(lens instanceof HTMLElement) || !photo) return;
  say(lens, "Reading the photo …", "");
  read(lens, photo, true).catch(() => say(lens, SILENT, "trouble"));
  input.value = "";
});

window.addEventListener("pagehide", cameraOff);
