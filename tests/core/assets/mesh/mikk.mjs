// Tangents by the reference's own code, as three.js ships it: numbers in from stdin, numbers out.
import { readFileSync } from "node:fs";
import { generateTangents, ready } from "../../../../web/node_modules/three/examples/jsm/libs/mikktspace.module.js";

await ready;
const { positions, normals, coordinates } = JSON.parse(readFileSync(0, "utf8"));
const found = generateTangents(
  new Float32Array(positions),
  new Float32Array(normals),
  new Float32Array(coordinates),
);
console.log(JSON.stringify(Array.from(found)));
