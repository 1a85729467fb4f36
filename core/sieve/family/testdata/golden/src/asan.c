#include <stdlib.h>
#include <stdio.h>
static int heat(int *p, int i) { return p[i]; }
int main(int argc, char **argv) {
	int *p = malloc(4 * sizeof(int));
	int r = heat(p, 3 + argc);
	if (argc > 5) free(p);
	return r & 0;
}
