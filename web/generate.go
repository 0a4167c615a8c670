package web

// The scripts of the pages are modules under scripts/, with their checks and tests; what is
// served is bundled from them.
//go:generate go tool esbuild scripts/vault.js scripts/page.js scripts/entered.js scripts/live-worker.js --bundle --format=iife --minify-whitespace --minify-syntax --charset=utf8 --log-level=warning --outdir=static
