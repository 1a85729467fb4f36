#include <stdlib.h>
#include <stdio.h>
static int use(int *p) { if (p[0] > 3) return 1; return p[4]; }
int main(void) { int *p = malloc(4 * sizeof *p); int r = use(p); free(p); free(p); char *l = malloc(7); l = NULL; return r & 0; }
