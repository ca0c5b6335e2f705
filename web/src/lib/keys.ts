/** Shortcuts that are signs go by the sign, wherever the keyboard has it; "+" is then no combination. */
export const BY_KEY = { useKey: true, splitKey: "|", ignoreModifiers: true };
