#include <stdio.h>

#include "ramp.h"

int main(void)
{
	static const struct leg legs[] = { { 120, 260, 10 } };
	int failed = 0;

	if (ramp_want(legs, 1, 0) != 20)
		failed += printf("a firing starts at room temperature\n") > 0;
	if (ramp_want(legs, 1, 60) != 140)
		failed += printf("an hour at 120 degrees an hour gives 140\n") > 0;
	if (ramp_want(legs, 1, 125) != 260)
		failed += printf("the target is held\n") > 0;
	printf("ramp: %d of 3 failed\n", failed);
	return failed != 0;
}
