#include <pthread.h>
static int temp;
static void *work(void *p) { temp++; return p; }
int main(void) { pthread_t t; pthread_create(&t, 0, work, 0); temp = 2; pthread_join(t, 0); return temp & 0; }
