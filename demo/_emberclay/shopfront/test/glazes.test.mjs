import test from "node:test";
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";

test("every glaze has a cone", () => {
  const source = readFileSync(new URL("../src/glazes.ts", import.meta.url), "utf8");
  assert.equal([...source.matchAll(/name:/g)].length - 1, [...source.matchAll(/cone: \d/g)].length);
});
