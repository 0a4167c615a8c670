// What is said where the device app can't be asked.

/** @param {string} kind */
export const words = (kind) =>
  ({
    locked: "Red Locket is locked.",
    away: "Red Locket isn’t running on this computer.",
    over: "This browser is no longer connected to Red Locket.",
    "app too old": "Red Locket on this computer is older than what was added to this browser: update it.",
    "extension too old": "What was added to this browser is older than Red Locket: take the new one under Devices.",
    none: "This browser isn’t connected to Red Locket.",
  })[kind] ?? "";
