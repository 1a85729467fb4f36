#ifndef COIL_H
#define COIL_H

/* A heating coil: its duty is the share of time it is on, in percent. */
struct coil {
	int temp;     /* degrees Celsius */
	int limit;    /* degrees Celsius */
	int duty;     /* percent */
	int duty_min; /* percent, keeps the relay from chattering */
};

void coil_init(struct coil *c, int limit);
void coil_step(struct coil *c, int want);
int coil_mean(const int *temps, int count);

#endif
