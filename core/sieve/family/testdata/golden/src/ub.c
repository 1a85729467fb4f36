#include <limits.h>
int main(int argc, char **argv) {
	int x = INT_MAX;
	x += argc;
	int a[2] = {0, 1};
	return a[argc + 1] + (1 << (argc + 31)) + x;
}
