// Reads KTX2 files with ktx-parse, and writes them anew: base64 on standard input, a line each; JSON comes back.
import { createInterface } from "node:readline";

const ktx = await import(process.argv[2]);
for await (const line of createInterface({ input: process.stdin })) {
  const file = ktx.read(Buffer.from(line, "base64"));
  const constants = Object.entries(ktx).filter(([name]) => name.startsWith("VK_FORMAT_"));
  const named = constants.find(([, number]) => number === file.vkFormat);
  const levels = file.levels.map((level) => ({
    data: Buffer.from(level.levelData).toString("base64"),
    size: level.uncompressedByteLength,
  }));
  const anew = Buffer.from(ktx.write(file, { keepWriter: true })).toString("base64");
  console.log(JSON.stringify({ ...file, format: named?.[0], levels, anew }));
}
