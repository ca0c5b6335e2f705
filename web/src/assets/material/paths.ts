/** How a material's path means an item: what is put before and behind it. */
export function itemOf(rules: { under: string; ending: string }, value: string): string {
  const path = value.replaceAll("\\", "/").replace(/^\/+/, "");
  return `${rules.under ? `${rules.under.replace(/\/$/, "")}/` : ""}${path}${rules.ending}`;
}
