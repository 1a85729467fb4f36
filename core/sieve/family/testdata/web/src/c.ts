import('./c').then(console.log); const o = { a: 1, a: 2 }; if (o == -0) {} export { nope } from './b'; 
import { here as dup } from './b'; let dup = 3;
