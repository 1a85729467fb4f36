include part.inc
include sub/*.inc
top: part
	@true
.DEFAULT_GOAL := other
other: ; @true
