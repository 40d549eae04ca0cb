# A fragment for your make file: include it anywhere, and add `check` to what your build does first.
EMBERWORT ?= emberwort

# What `make` alone does stays what it is without this fragment.
LINK_MK_DEFAULT := $(.DEFAULT_GOAL)

.PHONY: gen clean check

gen: ; $(EMBERWORT) generate
check: ; $(EMBERWORT) check --deny warnings && $(EMBERWORT) tidy --check && $(EMBERWORT) trial trials/first.toml
clean: ; rm -rf gen

.DEFAULT_GOAL := $(LINK_MK_DEFAULT)
