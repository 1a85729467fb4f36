exports.heat = function heat(x) {
  if (x > 5) throw new RangeError('too hot ' + x);
  return x;
};
