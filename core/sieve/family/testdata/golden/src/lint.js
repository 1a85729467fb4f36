const unused = 1;
function f(a) {
  if (a == 1) { return undefinedThing; }
  var x = 2
  debugger
}
