// Checks that every glaze has a colour that the printer can do.
import { readFileSync } from "node:fs";

const file = "src/glazes.ts";
let bad = 0;
readFileSync(new URL(file, import.meta.url), "utf8").split("\n").forEach((text, i) => {
  const at = text.indexOf("colour: \"");
  if (at >= 0 && !/colour: "#[0-9a-f]{6}"/.test(text)) {
    console.log(`${file}:${i + 1}:${at + 1}: warning: the colour must be six hexadecimal digits [colour-form]`);
    bad++;
  }
});
process.exitCode = bad > 0 ? 1 : 0;
