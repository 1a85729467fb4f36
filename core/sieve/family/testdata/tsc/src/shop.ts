import { Glaze, Kilns } from "./glaze.js";
import { Kiln } from "./glaze.js";

const ash: Glaze = { name: "Ash", cone: "ten", layers: [{ thickness: "2" }] };
const kiln = new Kiln({ id: "x" });
kiln.fire();
kiln.fire("hot", 3);
	const tabbed: number = "behind a tab";
const naïve: number = "após"; const 窯: string = 7;
function cone(g: Glaze): string { return g.cone; }
type Deep = { a: { b: { c: number } } };
const deep: Deep = { a: { b: { c: "three" } } };
export default function (g) { return g.nome; }
