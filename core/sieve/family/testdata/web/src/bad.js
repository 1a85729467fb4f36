const a = 1
var  b = function( { return }
