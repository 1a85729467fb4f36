#include <stdio.h>

#include "coil.h"
#include "ramp.h"

static const struct leg bisque[] = {
	{ 100, 600, 0 },
	{ 150, 980, 15 },
};

int main(void)
{
	struct coil c;
	int last[3] = { 0 };
	int minute;

	coil_init(&c, 1300);
	for (minute = 0; minute < 600; minute += 60) {
		int want = ramp_want(bisque, 2, minute);

		coil_step(&c, want);
		printf("minute %3d: want %4d, duty %3d\n", minute, want, c.duty);
		c.temp = want - 3;
		last[minute / 60 % 3] = want;
	}
	printf("mean of the last hours: %d\n", coil_mean(last, 3));
	return 0;
}
