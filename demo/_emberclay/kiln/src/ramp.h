#ifndef RAMP_H
#define RAMP_H

/* One leg of a firing: so many degrees an hour up to a temperature. */
struct leg {
	int rate;   /* degrees Celsius an hour */
	int target; /* degrees Celsius */
	int hold;   /* minutes at the target */
};

int ramp_want(const struct leg *legs, int count, int minute);

#endif
