// What the browser is asked for only where its user wants what it's for.
import { api } from "./line.js";

/** To sign out of sites. @type {chrome.permissions.Permissions} */
const SIGN_OUT = { permissions: ["cookies", "browsingData"] };

/** Whether this browser lets the extension sign out of sites. @returns {Promise<boolean>} */
export const maySignOut = () => api.permissions.contains(SIGN_OUT);

/** Asks for it; from a press in the extension's own page only. @returns {Promise<boolean>} */
export const askToSignOut = () => api.permissions.request(SIGN_OUT);
