// The console's fonts: what our own sentences need in one small file, other Latin letters in files
// that a browser fetches only where a name has them. Writes src/fonts/, which is not kept.
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import subsetFont from 'subset-font';

const span = (first, last) =>
  Array.from({ length: last - first + 1 }, (_, n) => String.fromCodePoint(first + n)).join('');
const OURS = span(0x20, 0x7e) + ' “”‘’–—…×·−°→←↑↓';
const LATIN = span(0xa1, 0xff);
const EXTENDED = span(0x100, 0x24f);

const FAMILIES = [
  { name: 'next', family: 'atkinson-hyperlegible-next', axes: { wght: { min: 400, max: 700 } } },
  { name: 'mono', family: 'atkinson-hyperlegible-mono', axes: { wght: 400 } }
];

mkdirSync('src/fonts', { recursive: true });
for (const { name, family, axes } of FAMILIES) {
  const read = (subset) =>
    readFileSync(
      `node_modules/@fontsource-variable/${family}/files/${family}-${subset}-wght-normal.woff2`
    );
  for (const [part, subset, letters] of [
    ['', 'latin', OURS],
    ['-latin', 'latin', LATIN],
    ['-extended', 'latin-ext', EXTENDED]
  ]) {
    const font = await subsetFont(read(subset), letters, {
      targetFormat: 'woff2',
      variationAxes: axes
    });
    writeFileSync(`src/fonts/${name}${part}.woff2`, font);
  }
}
