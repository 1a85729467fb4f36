export const here = 1;
const s: string = 2;
let unused = 3;
