/** Words of the layout language for completion, out of its own JSON Schema. */
import schema from "../../../../docs/layout.schema.json";

type Node = {
  properties?: Record<string, Node>;
  enum?: unknown[];
  const?: unknown;
  anyOf?: Node[];
  items?: Node;
  pattern?: string;
};

const keys = new Set<string>();
const values = new Map<string, Set<string>>();

function choices(node: Node, into: Set<string>): void {
  for (const value of node.enum ?? []) if (typeof value === "string") into.add(value);
  if (typeof node.const === "string") into.add(node.const);
  for (const one of node.anyOf ?? []) choices(one, into);
  if (node.items) choices(node.items, into);
}

for (const definition of [schema as Node, ...Object.values(schema.$defs as Record<string, Node>)]) {
  for (const [name, node] of Object.entries(definition.properties ?? {})) {
    keys.add(name);
    const known = values.get(name) ?? new Set<string>();
    choices(node, known);
    values.set(name, known);
  }
}
// The schema gives the types of numbers as a pattern.
const types = values.get("type") ?? new Set<string>();
for (const bits of [8, 16, 24, 32, 40, 48, 56, 64]) types.add(`u${bits}`).add(`i${bits}`);
for (const word of ["bytes", "string"]) types.add(word);
values.set("type", types);

/** What could stand at the end of a line: values of the key before it, else keys. */
export function wordsAt(line: string): string[] {
  const key = /([a-z_]+):\s*[\w-]*$/.exec(line)?.[1];
  const known = key === undefined ? undefined : values.get(key);
  return [...(known && known.size > 0 ? known : key === undefined ? keys : [])].sort();
}
