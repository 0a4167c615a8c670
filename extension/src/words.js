// What is said where the device app can't be asked.

/** @param {string} kind */
export const words = (kind) =>
  ({
    locked: "Red Locket is locked.",
    away: "Red Locket isn’t running on this computer.",
    over: "This browser is no longer connected to Red Locket.",
    none: "This browser isn’t connected to Red Locket.",
  })[kind] ?? "";
