#pragma message "hello"
int declared_twice(int);
long declared_twice(int);
