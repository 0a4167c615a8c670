// What a person typed into fields, or was filled for them: what a page puts there by itself is none of it.
import * as dom from "./dom.js";
/** @import { Box } from "./snapshot.js" */

/** @type {WeakMap<Box, string>} */
export const own = new WeakMap();

/** Takes down what stands in a field as a person's. @param {Box} f */
export function note(f) {
  own.set(f, f.value);
}

/** Whether the page itself put there what stands in a field, and nobody touched it. @param {Box} f */
export const isGiven = (f) => f.value !== "" && f.type !== "password" && !own.has(f) && !dom.matches(f, ":autofill");
