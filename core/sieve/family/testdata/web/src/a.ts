import { missing } from './b';
import gone from './nope';
import x from 'nosuchpkg';
const n: number = "s";
export const y = missing(n, gone, x
