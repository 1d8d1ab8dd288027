// Packs what was built: beside each text file one by brotli and one by gzip, where that is smaller. The service hands out
// what a browser takes (service/api/web.go).
import { existsSync, readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";

const text = /\.(js|css|html|svg|json|webmanifest|txt)$/;

function pack(folder) {
  for (const name of readdirSync(folder)) {
    const file = join(folder, name);
    if (statSync(file).isDirectory()) pack(file);
    else if (text.test(name) && name !== "index.html") {
      const plain = readFileSync(file);
      const packed = {
        br: brotliCompressSync(plain, {
          params: {
            [constants.BROTLI_PARAM_QUALITY]: 11,
            [constants.BROTLI_PARAM_LGWIN]: 22,
            [constants.BROTLI_PARAM_SIZE_HINT]: plain.length,
          },
        }),
        gz: gzipSync(plain, { level: 9 }),
      };
      for (const [suffix, bytes] of Object.entries(packed))
        if (bytes.length < plain.length) writeFileSync(`${file}.${suffix}`, bytes);
    }
  }
}

pack("dist");

// What a page may bring, in bytes as they are sent (brotli): the first one with all that it needs, and each further one
// beside that.
const first = 250_000;
const further = 150_000;

const assets = readdirSync("dist/assets").filter((n) => /\.(js|css)$/.test(n));
const sent = (name) => {
  const file = join("dist/assets", name);
  return statSync(existsSync(`${file}.br`) ? `${file}.br` : file).size;
};

/** All that a file imports, whole; what is imported when it is needed is not among it. */
function needs(name, into = new Set()) {
  if (into.has(name)) return into;
  into.add(name);
  if (name.endsWith(".js"))
    for (const m of readFileSync(join("dist/assets", name), "utf8").matchAll(/(?:from|import)"\.\/([^"]+)"/g))
      needs(m[1], into);
  return into;
}

const size = (names) => [...names].reduce((sum, n) => sum + sent(n), 0);
const entry = new Set();
for (const m of readFileSync("dist/index.html", "utf8").matchAll(/assets\/([^"]+)"/g)) needs(m[1], entry);
const pageOf = (name) => assets.find((n) => n.startsWith(`${name}-`) && n.length === name.length + 12);
const opened = new Set([...entry, ...needs(pageOf("Now"))]);
let over = false;
const hold = (what, bytes, most) => {
  console.log(`${what.padEnd(16)} ${String(Math.round(bytes / 1000)).padStart(4)} kB of ${String(most / 1000)}`);
  over ||= bytes > most;
};
hold("Now, first", size(opened), first);
hold("SignIn, first", size(new Set([...entry, ...needs(pageOf("SignIn"))])), first);
for (const name of assets.map(
  (n) => /^(\w+(?:Page|View)|Audit|Changes|Devices|HoldBar|TextEditor)-[\w-]{8}\.js$/.exec(n)?.[1],
))
  if (name) hold(name, size([...needs(pageOf(name))].filter((n) => !opened.has(n))), further);
if (over) {
  console.error("a page brings more than it may: see console/scripts/pack.mjs");
  process.exit(1);
}
