// The script of the pages of an open vault.
import "./page.js";
import "./ask.js";
import "./book.js";
import "./copy.js";
import "./form.js";
import "./import.js";
import "./keys.js";
import "./lens.js";
import "./live.js";
