package extension

// The extension's scripts are modules under src/; a browser runs what is bundled from them:
// content scripts can't import.
//go:generate go tool esbuild src/content.js src/background.js src/window.js src/connect.js src/clip.js src/paper.js src/alarm.js --bundle --format=iife --charset=utf8 --loader:.css=text --log-level=warning --outdir=files
