# Rules that every board shares.

BOARDS := mk1 mk2
PORT   ?= /dev/ttyUSB0

.PHONY: clean flash $(addprefix size-,$(BOARDS))

$(BUILD)/%.o: src/%.c src/coil.h src/ramp.h
	@mkdir -p $(BUILD)
	$(CC) $(CFLAGS) -DBOARD_$(BOARD) -c -o $@ $<

clean: ## Remove everything that was built
	rm -rf build

flash: controller ## Send the controller image to the board on PORT
	@echo "sending $(BUILD)/controller to $(PORT)"
	@test -w $(PORT) || { echo "$(PORT): no board there" >&2; exit 1; }

# The size of the image of one board
$(addprefix size-,$(BOARDS)): size-%:
	$(MAKE) BOARD=$* controller
	size build/$*/controller
