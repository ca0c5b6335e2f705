/** What a few bytes would be as numbers and words. */

const hex = (value: number) => value.toString(16).toUpperCase().padStart(2, "0");

export const hexOf = (bytes: ArrayLike<number>) => Array.from(bytes, hex).join(" ");

export const offsetOf = (value: number) => `0x${value.toString(16).toUpperCase()}`;

/** Readings of one to eight bytes, both byte orders; text where all of it can be read. */
export function readings(bytes: Uint8Array): [string, string][] {
  const found: [string, string][] = [];
  if (bytes.length >= 1 && bytes.length <= 8) {
    const number = (order: Iterable<number>) => {
      let value = 0n;
      for (const byte of order) value = (value << 8n) | BigInt(byte);
      return value;
    };
    const little = number([...bytes].reverse());
    const big = number(bytes);
    found.push(["little-endian", little.toLocaleString("en")]);
    if (bytes.length > 1) found.push(["big-endian", big.toLocaleString("en")]);
    const top = 1n << BigInt(8 * bytes.length - 1);
    if (little >= top) found.push(["signed", (little - 2n * top).toLocaleString("en")]);
  }
  const text = Array.from(bytes, (byte) => (byte >= 32 && byte < 127 ? String.fromCharCode(byte) : "·")).join(
    "",
  );
  if (/[^·]/.test(text)) found.push(["text", text.slice(0, 48)]);
  return found;
}
