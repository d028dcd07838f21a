// Compresses what the build made, once and well, so that the service need not.
import { readFileSync, readdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants } from "node:zlib";

const options = { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } };
for (const entry of readdirSync("dist", { recursive: true, withFileTypes: true })) {
  // Fonts are compressed already.
  if (!entry.isFile() || !/\.(js|css|html|svg)$/.test(entry.name)) continue;
  const path = join(entry.parentPath, entry.name);
  writeFileSync(`${path}.br`, brotliCompressSync(readFileSync(path), options));
}
