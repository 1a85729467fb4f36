#include "ramp.h"

/* The temperature that a firing wants at a minute after its start. */
int ramp_want(const struct leg *legs, int count, int minute)
{
	int from = 20;
	int i;

	for (i = 0; i < count; i++) {
		int up = (legs[i].target - from) * 60 / legs[i].rate;

		if (minute < up)
			return from + legs[i].rate * minute / 60;
		minute -= up;
		if (minute < legs[i].hold)
			return legs[i].target;
		minute -= legs[i].hold;
		from = legs[i].target;
	}
	return from;
}
