int f(void)
{
	int x = 3
	return x;
}

int g( { }
