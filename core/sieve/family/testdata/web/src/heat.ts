export function heat(x: number) {
  if (x > 5) throw new RangeError('too hot ' + x);
  return x;
}
