// Hands the session's origin key to the browser, which sends it with every request to this
// origin from now on, and to no other port. Then the vault's first page comes.
const { user, key, to } = /** @type {Record<string, string>} */ (
  /** @type {HTMLElement} */ (document.getElementById("entered")).dataset
);
const request = new XMLHttpRequest();
request.open("GET", "/origin-key", true, user, key);
request.onloadend = () => {
  if (request.status === 204) location.replace(to);
  else /** @type {HTMLElement} */ (document.getElementById("not-entered")).hidden = false;
};
request.send();
