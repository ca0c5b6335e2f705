/** How shortcuts are listened for. */

/** Also while a choice or a slider has the focus: these take arrow keys only. */
export const ANYWHERE = { enableOnFormTags: ["radio", "slider", "option", "checkbox"] as never };

/** Shortcuts that are signs go by the sign, wherever the keyboard has it; "+" is then no combination. */
export const BY_KEY = { ...ANYWHERE, useKey: true, splitKey: "|", ignoreModifiers: true };
