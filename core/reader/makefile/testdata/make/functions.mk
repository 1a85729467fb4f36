DIRS := lib app
define template
$(1)-build: $(1)-prep
	make -C $(1)
$(1)-prep:
	mkdir -p $(1)
endef
$(foreach d,$(DIRS),$(eval $(call template,$(d))))

UPPER = $(subst a,A,$(DIRS))
$(UPPER:%=do-%): ; @echo $@
$(patsubst %.c,%.t,x.c y.c y.h): ; @true
$(filter-out lib,$(DIRS)): ; @true
$(firstword $(DIRS))-first $(lastword $(DIRS))-last: ; @true
$(wordlist 2,3,p q r s): ; @true
$(sort zeta alpha zeta): ; @true
$(basename prog.c)$(suffix x.y): ; @true
$(join a- b-,1 2): ; @true
$(notdir path/to/leaf): ; @true
$(if $(DIRS),nonempty,empty): ; @true
$(or ,second): ; @true
$(call rev,one,two): ; @true
rev = $(2)-$(1)
$(call rev,one,two): ; @true
$(strip   stripped  ): ; @true
X = 1
X += 2
plus-$(words $(X)): ; @true
COND ?= yes
ifeq ($(COND),yes)
is-yes: ; @true
else ifeq ($(COND),no)
is-no: ; @true
else
is-other: ; @true
endif
ifdef UNDEFINED_THING
never: ; @true
endif
ifndef UNDEFINED_THING
always: ; @true
endif
ifneq "$(COND)" 'no'
quoted: ; @true
endif
override define multi =
one two
endef
$(multi): ; @true
info-line := $(info )x
$(if ,,$(info )) 
-include missing.mk
export PATH
unexport FOO
undefine X
after-undefine$(X): ; @true
nested-$(word $(words a b),p q): ; @true
