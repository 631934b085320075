#!/bin/sh
# What CI runs on each change: no finding, and every expectation met.
set -eu
cd "$(dirname "$0")"
kestrix check -strict pier.hcl
kestrix replay pier.hcl -scenario scenarios/ -format junit -o held.xml
