# A fragment for your make file: include it anywhere, and make LINK-check a prerequisite of what your build does first.
EMBERWORT ?= emberwort
LINK_MK_FOLDER := $(dir $(abspath $(lastword $(MAKEFILE_LIST))))

# What `make` alone does stays what it is without this fragment.
LINK_MK_DEFAULT := $(.DEFAULT_GOAL)

.PHONY: LINK-generate LINK-check

# Writes the generated files again.
LINK-generate:
	cd "$(LINK_MK_FOLDER)" && $(EMBERWORT) generate

# The definition is right and tidy, the generated files are those of it, and the trial holds.
LINK-check:
	cd "$(LINK_MK_FOLDER)" && $(EMBERWORT) check --deny warnings && $(EMBERWORT) tidy --check && \
	    $(EMBERWORT) generate --check && $(EMBERWORT) trial trials/first.toml

.DEFAULT_GOAL := $(LINK_MK_DEFAULT)
