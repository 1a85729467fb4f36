export const broken = [1, 2;
export function half( {
