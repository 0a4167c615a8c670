// What the scripts find around them.
declare var browser: typeof chrome | undefined;
