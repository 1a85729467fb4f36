#include "coil.h"

void coil_init(struct coil *c, int limit)
{
	c->temp = 20;
	c->limit = limit;
	c->duty = 0;
	c->duty_min = 5;
}

static int clamp(int value, int low, int high)
{
	if (value < low)
		return low;
	return value > high ? high : value;
}

/* The mean of the last readings: the sensors are noisy. */
static int mean(const int *temps, unsigned int count)
{
	int sum = 0;

	for (int i = 0; i < count; i++)
		sum += temps[i];
	return count ? sum / (int)count : 0;
}

void coil_step(struct coil *c, int want)
{
	int elapsed = 0;
	int readings[] = { c->temp, c->temp };
	int gap = want - mean(readings, 2);

	if (c->temp > c->limit) {
		c->duty = 0;
		return;
	}
	c->duty = clamp(gap * 4, 0, 100);
	if (c->duty < c->duty_max)
		c->duty = 0;
}
