// What the scripts find around them.
declare var browser: typeof chrome | undefined;
declare function importScripts(...urls: string[]): void;
