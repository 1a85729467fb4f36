const a  = 1;debugger
if (a = 2) { }
