/** Reads the blobs that `fenrik.core.binary` packs: see there for the layout. */

export type Arrays = Record<string, Float32Array | Float64Array | Int32Array | Int8Array | Uint8Array>;

const KINDS = {
  float32: Float32Array,
  float64: Float64Array,
  int32: Int32Array,
  int8: Int8Array,
  uint8: Uint8Array,
} as const;

export interface Blob {
  head: Record<string, unknown>;
  arrays: Arrays;
}

export function unpack(buffer: ArrayBuffer): Blob {
  const magic = new TextDecoder().decode(new Uint8Array(buffer, 0, 6));
  if (magic !== "FNBIN1") throw new Error("The server sent something that is no Fenrik blob.");
  const size = new DataView(buffer).getUint32(8, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 12, size)));
  const arrays: Arrays = {};
  for (const row of header.arrays) {
    const kind = KINDS[row.dtype as keyof typeof KINDS];
    const count = row.shape.reduce((a: number, b: number) => a * b, 1);
    arrays[row.name] = new kind(buffer, row.offset, count);
  }
  return { head: header.head, arrays };
}
