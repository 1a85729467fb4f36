#include <stdlib.h>
static char *coat(void) { return malloc(10); }
int main(void) { char *c = coat(); c[0] = 1; c = 0; coat(); return 0; }
