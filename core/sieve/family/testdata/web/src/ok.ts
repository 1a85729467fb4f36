import { missing } from './b';
import gone from './nope';
console.log(missing, gone);
const n: number = "s";
