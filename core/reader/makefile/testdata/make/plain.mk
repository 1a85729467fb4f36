# A makefile with most of what people write.
NAME := kiln
OBJS = a.o b.o
PROGS := $(NAME) $(NAME)-test
.PHONY: all clean help $(addprefix check-,one two)

all: $(PROGS) ## Build everything

$(NAME): $(OBJS) | build
	cc -o $@ $^

$(NAME)-test: b.o; cc -o $@ $^

# Removes what was built
clean::
	rm -f *.o
clean::
	rm -rf build

$(OBJS): %.o: %.c
	cc -c $<

build:
	mkdir $@

%.pdf: %.tex
	tex $<

.c.s:
	cc -S $<

debug: CFLAGS += -g
debug: all

long-line: \
  a.o \
  b.o
	@echo several \
	  lines

help:
	@echo "# not a comment: $(NAME)"

check-one check-two: check-%: all
	./$*

both out &: a.o
	touch both out

esc\:aped has\ space: 
	@echo x
dollar$$: ; @echo $@
