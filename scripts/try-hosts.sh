#!/usr/bin/env bash
# Two hosts on one machine: a network namespace is the second one, and ranks of MPI run on both, with all traffic over
# TCP. Checks that a study launched so has phases of both hosts. Needs root, iproute2 and Open MPI; ends with 77 where one
# of them is missing or the system does not allow it. Usage: try-hosts.sh [PRESET]
set -eu
cd "$(dirname "$0")/.."
bin=$PWD/build/${1:-release}
skip() { echo "not tried: $1"; exit 77; }
[ "$(id -u)" -eq 0 ] || skip "this needs root"
command -v ip >/dev/null && command -v mpirun >/dev/null || skip "iproute2 or openmpi-bin is not installed"
[ -x "$bin/examples/silt_ranks" ] || skip "silt_ranks is not built (libopenmpi-dev)"
name=antcrew-hostb
work=$(mktemp -d)
clear_up() { ip netns del $name 2>/dev/null || true; ip link del antcrew0 2>/dev/null || true; rm -rf "$work"; }
trap clear_up EXIT
ip netns add $name 2>/dev/null || skip "the system makes no network namespaces here"
ip link add antcrew0 type veth peer name antcrew1 || skip "the system makes no pairs of network devices here"
ip link set antcrew1 netns $name
ip addr add 10.77.0.1/24 dev antcrew0
ip link set antcrew0 up
ip netns exec $name ip addr add 10.77.0.2/24 dev antcrew1
ip netns exec $name ip link set antcrew1 up
ip netns exec $name ip link set lo up
grep -q hostb /etc/hosts || { cp /etc/hosts "$work/hosts"; }
# In place of ssh: leaves out leading options, takes the host's name, and runs the rest there.
cat >"$work/agent" <<'A'
#!/bin/bash
while [[ $1 == -* ]]; do shift; done
shift
exec ip netns exec antcrew-hostb unshare --uts bash -c "hostname hostb; $*"
A
chmod +x "$work/agent"
cat >"$work/ranks.toml" <<T
format = 1
title = "Silt on two hosts"
workers = [2]
sizes = [200]
dimensions = { hosts = ["$(hostname):2", "$(hostname):1,10.77.0.2:1"] }
[environment]
OMPI_MCA_rmaps_base_oversubscribe = "1"
OMPI_ALLOW_RUN_AS_ROOT = "1"
OMPI_ALLOW_RUN_AS_ROOT_CONFIRM = "1"
OMPI_MCA_plm_rsh_agent = "$work/agent"
OMPI_MCA_orte_keep_fqdn_hostnames = "1"
OMPI_MCA_btl_tcp_if_include = "10.77.0.0/24"
OMPI_MCA_oob_tcp_if_include = "10.77.0.0/24"
[answer]
compare = "numbers"
tolerance = 1e-9
[baseline]
command = ["$bin/examples/silt_ranks", "--sequential", "@(size)", "100"]
[[variant]]
name = "rows to ranks"
crew = "ranks"
launcher = ["mpirun", "--host", "@(hosts)", "-n", "@(workers)"]
command = ["$bin/examples/silt_ranks", "@(size)", "100"]
T
"$bin/command/antcrew" sweep "$work/ranks.toml" --rounds 3 --no-confirm --quiet --save "$work/ranks.json" || [ $? -eq 4 ]
"$bin/command/antcrew" show "$work/ranks.json" --details "rows to ranks" >"$work/details"
grep -E "worker [01] on" "$work/details"
grep -q "worker 1 on hostb" "$work/details" || { echo "no phase of the second host"; cat "$work/details"; exit 1; }
# A study in C++, whose crew has a rank on either host.
if [ -x "$bin/examples/everywhere" ]; then
  export OMPI_MCA_rmaps_base_oversubscribe=1 OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1
  export OMPI_MCA_plm_rsh_agent="$work/agent" OMPI_MCA_orte_keep_fqdn_hostnames=1
  export OMPI_MCA_btl_tcp_if_include=10.77.0.0/24 OMPI_MCA_oob_tcp_if_include=10.77.0.0/24
  for study in "Silt everywhere" "Gauges everywhere"; do
    "$bin/examples/everywhere" --study "$study" --workers 2 --rounds 3 --no-confirm --budget 0 --quiet \
      --launcher "mpirun --host $(hostname):1,10.77.0.2:1 -n @(workers)" --save "$work/everywhere.json" --overwrite ||
      [[ $? =~ ^[14]$ ]]
    grep -q '"faults": \[{' "$work/everywhere.json" && { grep '"faults": \[{' "$work/everywhere.json"; exit 1; }
  done
  sleep 5
  pgrep -f serve-launched-cell && { echo "ranks were left behind"; exit 1; }
fi
echo "ranks ran on both hosts"
