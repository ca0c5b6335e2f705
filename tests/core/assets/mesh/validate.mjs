// What the Khronos validator says of a .glb, as JSON; the file is the first word.
import { createRequire } from "node:module";
import { readFileSync } from "node:fs";

const validator = createRequire(new URL("../../../../web/package.json", import.meta.url))("gltf-validator");
const told = await validator.validateBytes(new Uint8Array(readFileSync(process.argv[2])));
console.log(JSON.stringify(told.issues.messages));
