#include <vector>
template <class T> struct holder {
	T value;
	int size() const { return value.length(); }
};

template <class T> T twice(T t) { return t.missing() + t; }

int use()
{
	holder<int> h{3};
	std::vector<int> v;
	v.push_back("text");
	return h.size() + twice(4);
}

void overloaded(int);
void overloaded(double, int);
void call() { overloaded("x", "y", "z"); }

constexpr int bad(int n) { return n / 0; }
static_assert(bad(2) == 1, "never");
