import { glazes, type Glaze } from "./glazes.js";

function row(glaze: Glaze): string {
  const use = glaze.food ? "safe for food" : "for looks";
  return `<li><b style="color:${glaze.colour}">${glaze.name}</b>, cone ${glaze.cone}, ${use}</li>`;
}

export function page(title: string): string {
  return `<h1>${title}</h1><ul>${glazes.map(row).join("")}</ul>`;
}
