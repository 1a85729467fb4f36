#include "plain.h"
#define TWICE(x) ((x) + (x))
#define DEREF(p) TWICE(*p)

struct point { int x, y; };

static int unused_here(void) { return 1; }

int sum(struct point p, const char *s)
{
	int n = 0;
	unsigned u = 3;
	char *q = 5;
	for (int i = 0; i < u; i++)
		n += p.z;
	if (n = 3)
		n++;
	return DEREF(p) + missing(s) + n;
}

int sum(int a);

void format(void)
{
	__builtin_printf("%d %s\n", "text", 4);
}

int no_return(int a)
{
	if (a)
		return 1;
}
