// Serves the catalogue; PORT says where, 0 takes any free port.
import { createServer } from "node:http";
import { readFileSync } from "node:fs";

const source = readFileSync(new URL("./src/glazes.ts", import.meta.url), "utf8");
const names = [...source.matchAll(/name: "([^"]+)"/g)].map((m) => m[1]);

const server = createServer((request, response) => {
  console.log(`${request.method} ${request.url}`);
  response.setHeader("content-type", "text/html; charset=utf-8");
  response.end(`<h1>Glazes</h1><ul>${names.map((n) => `<li>${n}</li>`).join("")}</ul>\n`);
});
server.listen(Number(process.env.PORT ?? 0), "127.0.0.1", () => {
  console.log(`catalogue on http://127.0.0.1:${server.address().port}/`);
});
