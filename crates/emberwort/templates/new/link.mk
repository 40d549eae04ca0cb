# A fragment for your make file: include it, and add `check` to what your build does first.
EMBERWORT ?= emberwort

.PHONY: gen clean check

gen: ; $(EMBERWORT) generate
check: ; $(EMBERWORT) check --deny warnings && $(EMBERWORT) tidy --check && $(EMBERWORT) trial trials/first.toml
clean: ; rm -rf gen
