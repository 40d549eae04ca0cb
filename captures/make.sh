#!/bin/sh
# Makes the captures of this folder anew. The same program gives the same bytes.
#   make.sh [PROGRAM]    PROGRAM: the emberwort to use; the one on the PATH if left out
set -eu
cd "$(dirname "$0")"
program=${1:-emberwort}
export EMBERWORT_LINK=../marlock/marlock.ember
rm -f ./*.pcapng keeper.hex keeper.bin
"$program" trial shaken-plug.toml --record shaken-plug.pcapng
"$program" trial ../marlock/trials/clear-day.toml --record clear-day.pcapng
commands() {
    "$program" encode WhoAreYou --on bus485 --node 3 --sequence 0 "$@"
    "$program" encode MoveGate target=80 speed=12 --on bus485 --node 3 --sequence 1 "$@"
    "$program" encode MoveGate target=100 speed=4 --on bus485 --node 3 --sequence 2 "$@"
}
{ echo "AA 55"; commands; echo "C6 39 03"; } > keeper.hex
commands --as bytes > keeper.bin
