#!/usr/bin/env bash
# package_test.sh SOURCE BUILD WORK: makes the Debian packages, installs them in a bare tree and uses what is there.
set -euo pipefail
trap 'echo "package_test.sh: line $LINENO failed" >&2' ERR
source=$1 build=$2 work=$3
rm -rf "$work"
mkdir -p "$work"
"$source/scripts/package" --build "$build" --out "$work/packages"
tree=$work/tree
mkdir -p "$tree"/var/lib/dpkg/{info,updates,triggers}
touch "$tree/var/lib/dpkg/status"
# What they depend on is on this machine and not in the tree.
dpkg --root="$tree" --force-depends --force-not-root --force-bad-path --log=/dev/null -i "$work"/packages/*.deb >"$work/log" 2>&1 || { cat "$work/log"; exit 1; }

# Reads all of the output before it looks: with `grep -q` behind a pipe the writer dies of SIGPIPE, now and then.
says() {
  local pattern=$1
  shift
  "$@" >"$work/said" && grep -q "$pattern" "$work/said"
}
must_exist() { for path in "$@"; do [ -e "$tree/$path" ] || { echo "not in the packages: $path"; exit 1; }; done; }
must_exist usr/bin/bayswap usr/share/man/man1/bayswap.1.gz usr/share/bash-completion/completions/bayswap \
  usr/share/zsh/vendor-completions/_bayswap usr/share/fish/vendor_completions.d/bayswap.fish usr/lib/systemd/user/bayswap-sync.service \
  usr/include/bayswap/base.hpp usr/include/bayswap.h usr/lib/python3/dist-packages/bayswap/__init__.py usr/share/doc/bayswap/copyright
ls "$tree"/usr/lib/*/pkgconfig/bayswap.pc "$tree"/usr/lib/*/libbayswap.so.0.1 >/dev/null
says '^\.TH' zcat "$tree/usr/share/man/man1/bayswap.1.gz"
grep -q '^ExecStart=/usr/bin/bayswap ' "$tree/usr/lib/systemd/user/bayswap-sync.service"
if says '\.debug_info' readelf -S "$tree/usr/bin/bayswap"; then
  echo "the program was not stripped"
  exit 1
fi

# The tool works, and a program builds against what is there and runs.
"$tree/usr/bin/bayswap" demo --out "$work/world" >/dev/null
BAYSWAP_HOME=$work/world/home says '^Done' "$tree/usr/bin/bayswap" carry 'Lantern Skiff' --from bench --to quay-tv --yes
cmake -G Ninja -S "$source/examples" -B "$work/examples" -DCMAKE_PREFIX_PATH="$tree/usr" >"$work/log" 2>&1 || { cat "$work/log"; exit 1; }
cmake --build "$work/examples" --target which_save >"$work/log" 2>&1 || { cat "$work/log"; exit 1; }
says 'battery save, n64.sram' "$work/examples/which_save" "$work/world/bench/dumps/N99P.sra"
# From C and from Python as well.
pc=$(dirname "$(ls "$tree"/usr/lib/*/pkgconfig/bayswap_c.pc)")
PKG_CONFIG_PATH=$pc sh -c 'cc -std=c11 "$1/tests/c_interface.c" -o "$2/from_c" -Wl,-rpath,"$3/.." $(pkg-config --cflags --libs bayswap_c) -lpthread' \
  - "$source" "$work" "$pc"
mkdir "$work/c"
"$work/from_c" "$tree/usr/bin/bayswap" "$work/c"
BAYSWAP_C_LIBRARY=$(ls "$tree"/usr/lib/*/libbayswap_c.so.1) PYTHONDONTWRITEBYTECODE=1 PYTHONPATH=$tree/usr/lib/python3/dist-packages BAYSWAP_HOME=$work/world/home \
  says "'GULL LEDGER'" /usr/bin/python3 -c 'import bayswap; print([save["label"] for save in bayswap.Home().saves("bench")])'
dpkg --root="$tree" --force-not-root --force-bad-path --log=/dev/null --purge python3-bayswap bayswap libbayswap-dev libbayswap-c1 libbayswap0.1 >"$work/log" 2>&1 || { cat "$work/log"; exit 1; }
[ ! -e "$tree/usr/bin/bayswap" ]
echo "The packages install, work, and go without a trace."
