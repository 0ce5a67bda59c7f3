#!/usr/bin/env bash
# Machines that we do not have, emulated: many processors, several packages and memory nodes, hardware threads. Boots
# each with a small system of its own and runs tests/machines/machine_checks.cpp there, the tests of algorithms, and
# those of crews and shared containers that need no clock. Times inside mean nothing. Takes some minutes for each.
#
#   scripts/try-machines.sh [KERNEL [SHAPE...]]
#
# KERNEL: a bootable one, such as /boot/vmlinuz-…, or the folder that `dpkg-deb -x linux-image-….deb` made. Needs the
# packages qemu-system-x86, cpio, busybox-static, and g++ as for a build.
# SHAPE: PROCESSORS/CORES/PACKAGES/NODES, or PROCESSORS/CORES/PACKAGES/NODES/2 for two kinds of processors: the emulator
# has one only, so what the kernel tells of it is copied, with the capacity of each added, and read from there.
set -euo pipefail
cd "$(dirname "$0")/.."
kernel=${1:-/boot}
shift || true
shapes=("$@")
((${#shapes[@]})) || shapes=(8/8/2/2 32/16/2/2 64/64/1/1 3/3/1/1 8/8/1/1/2)
[[ -d $kernel ]] && kernel=$(find "$kernel" -name 'vmlinuz-*' 2>/dev/null | sort -V | tail -1)
if [[ ! -r $kernel || -z $kernel ]]; then
  echo "try-machines: no kernel to boot; give one: scripts/try-machines.sh FOLDER_OF_AN_UNPACKED_KERNEL_PACKAGE" >&2
  exit 2
fi
for tool in qemu-system-x86_64 cpio busybox; do
  command -v "$tool" >/dev/null || { echo "try-machines: $tool is missing; install qemu-system-x86, cpio, busybox-static" >&2; exit 3; }
done

[[ -n ${ANTCREW_BUILT:-} ]] || scripts/build.sh release antcrew_command machine_checks test_crew test_algorithm test_share
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
root=$work/root
mkdir -p "$root"/{bin,dev,proc,sys,tmp,run}
cp build/release/command/antcrew build/release/tests/{machine_checks,test_crew,test_algorithm,test_share} "$root/bin/"
cp "$(command -v busybox)" "$root/bin/busybox"
for program in "$root"/bin/*; do ldd "$program" 2>/dev/null || true; done | grep -o '/[^ ]*' | sort -u | while read -r library; do
  mkdir -p "$root$(dirname "$library")"
  cp -L "$library" "$root$library"
done

# Emulated processors that wait for each other spin. By the usual scheduling of a few real ones they starve the one that
# all wait for, and a machine of 32 and more may not even boot; by that for idle work it takes a minute.
idle=(); chrt --idle 0 true 2>/dev/null && idle=(chrt --idle 0)
fault=0
for shape in "${shapes[@]}"; do
  IFS=/ read -r processors cores packages nodes kinds <<<"$shape"
  cat >"$root/init" <<P
#!/bin/busybox sh
/bin/busybox mount -t proc proc /proc
/bin/busybox mount -t sysfs sys /sys
/bin/busybox mount -t devtmpfs dev /dev
/bin/busybox mkdir -p /dev/shm
/bin/busybox mount -t tmpfs shm /dev/shm
/bin/busybox mount -t tmpfs tmp /tmp
export HOME=/tmp PATH=/bin ANTCREW_STORE=/tmp/store
if [ "${kinds:-1}" = 2 ]; then
  /bin/busybox mkdir -p /tmp/seen/sys/devices /tmp/seen/proc
  /bin/busybox cp -r /sys/devices/system /tmp/seen/sys/devices/ 2>/dev/null
  for file in cpuinfo meminfo mounts; do /bin/busybox cat /proc/\$file >/tmp/seen/proc/\$file; done
  for k in \$(/bin/busybox seq 0 $((processors - 1))); do
    [ \$k -lt $((processors / 2)) ] && capacity=430 || capacity=1024
    echo \$capacity >/tmp/seen/sys/devices/system/cpu/cpu\$k/cpu_capacity
  done
  export HWLOC_FSROOT=/tmp/seen HWLOC_THISSYSTEM=1
fi
antcrew machine | /bin/busybox head -20
run() {
  name=\$1; shift
  if "\$@" >/tmp/told 2>&1; then end=passed; else end=FAILED; fi
  /bin/busybox grep -E "^holds|FAULT|tasks taken|ERROR|TEST CASE|values|test cases|TRIED" /tmp/told
  echo "\$name: \$end"
}
run machine_checks machine_checks $processors $cores $packages $nodes ${kinds:-1}
run algorithm test_algorithm
run share test_share "-sf=*shared_test*,*keys_test*,*pipeline_test*"
run crew test_crew "-sf=*placement_test*,*handout_test*,*sharing_test*,*loops_test*,*task_group_test*,*task_graph_test*"
/bin/busybox poweroff -f
P
  chmod +x "$root/init"
  (cd "$root" && find . | cpio -o -H newc --quiet | gzip -1) >"$work/root.gz"
  memory=$((4096 / nodes))
  numa=()
  for ((node = 0; node < nodes && nodes > 1; ++node)); do
    each=$((processors / nodes))
    numa+=(-object "memory-backend-ram,id=m$node,size=${memory}M"
      -numa "node,nodeid=$node,cpus=$((node * each))-$((node * each + each - 1)),memdev=m$node")
  done
  echo "== $processors processors, $cores cores, $packages packages, $nodes nodes"
  "${idle[@]}" timeout "${ANTCREW_LONGEST_S:-1500}" qemu-system-x86_64 -accel tcg,thread=multi -cpu Skylake-Client -m 4096 \
    -smp "$processors,sockets=$packages,cores=$((cores / packages)),threads=$((processors / cores))" "${numa[@]}" \
    -kernel "$kernel" -initrd "$work/root.gz" -append "console=ttyS0 quiet panic=1" -nographic -no-reboot \
    </dev/null 2>&1 | grep --line-buffered -v 'TCG doesn' | sed -u 's|\r||g;s/\x1b\[[0-9;?]*[a-zA-Z]//g;s/\x1bc//g' | tee "$work/told" || true
  for part in machine_checks algorithm share crew; do
    grep -q "^$part: passed" "$work/told" || { echo "FAULT: $part did not pass with $shape"; fault=1; }
  done
done
exit $fault
