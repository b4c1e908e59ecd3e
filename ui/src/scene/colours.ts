/** Colours of the view. Deviation: ochre for leftover, pale slate on size, violet for overcut. */

export const LIGHT = {
  ground: 0xf3f0e8,
  part: 0xb9c2c4,
  edge: 0x1d2930,
  stock: 0xcbb994,
  hover: 0x7fb7c4,
  picked: 0x0f6274,
};
export const DARK = {
  ground: 0x1b2328,
  part: 0x8d999d,
  edge: 0x0c1215,
  stock: 0x94866a,
  hover: 0x3f8ea0,
  picked: 0x59b7cb,
};
/** What a user draws or picks. */
export const DRAWN = 0xb3541e;
/** What meets where it must not, and what only comes near. */
export const MEETS = { stop: 0xb5302a, caution: 0xd98a1f, note: 0xd98a1f };
export const AXES = [0xc0392b, 0x2e8b57, 0x2f5fb3];
export const KINDS = [0x8f989d, 0x1b5e83, 0xa8500f, 0x3b7d8c, 0x6d7f2a, 0x8c2f62];
/** In the order of the motion kinds: rapid, feed, plunge, lead, link, entry. */
export const KIND_NAMES = ["rapid", "feed", "plunge", "lead", "link", "entry"];

const STOPS: [number, [number, number, number]][] = [
  [-1, [74, 38, 112]],
  [-0.35, [139, 104, 170]],
  [0, [200, 207, 214]],
  [0.35, [206, 165, 90]],
  [1, [140, 92, 12]],
];

/** Colour 0..1 of a deviation as a share of the scale's end; +-0.1 is the tolerance band. */
export function deviationColour(share: number): [number, number, number] {
  const band = 0.1;
  const away =
    Math.abs(share) <= band ? 0 : Math.sign(share) * Math.min(1, (Math.abs(share) - band) / (1 - band) + 0.3);
  for (let i = 1; i < STOPS.length; i++) {
    const [high, b] = STOPS[i];
    const [low, a] = STOPS[i - 1];
    if (away <= high) {
      const t = (away - low) / (high - low);
      return [0, 1, 2].map((k) => (a[k] + (b[k] - a[k]) * t) / 255) as [number, number, number];
    }
  }
  return [140 / 255, 92 / 255, 12 / 255];
}
