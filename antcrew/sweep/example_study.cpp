#include "antcrew/sweep/study_file.hpp"

namespace antcrew::sweep_layer {

std::string example_study() {
  return R"toml(# A study of commands. Run it:            antcrew sweep FILE
# See what would be run, word by word:     antcrew sweep FILE --dry-run
# All keys are explained in docs/sweep.md.
format = 1
title = "Mean tide height, by a shell script"

# The grid: every variant is tried with each of these, against the baseline.
workers = [1, 2, 4]
sizes = [400_000]                  # of what is for you to say: here soundings
# dimensions = { method = ["plain", "fast"] }      # @(method) in words, ANTCREW_DIMENSION_METHOD in the environment

environment = { LC_ALL = "C" }     # for all commands; only what stands here is kept in the record

# What a command printed is its answer. Sums in another order differ in their last digits.
[answer]
compare = "numbers"                # or "exactly", "lines" (in any order), or command = ["./same.sh"]
tolerance = 1e-9
# file = "heights.txt"             # the answer is in this file of the trial's own folder, not printed

[limits]
memory = "4Gi"                     # of all processes of a trial; call_s and output are the others

# What the variants are compared with. A shell only where it is asked for, and its text gets values as variables:
[baseline]
shell = '''
awk -v n="$ANTCREW_SIZE" '
  BEGIN { for (i = 0; i < n; ++i) sum += 2 * sin(i * 0.001) + 0.3 * cos(i * 0.017)
          printf "%.9f\n", sum / n }'
'''
# Without a shell a command is a list of words, in which values may stand:
# command = ["./tides", "--soundings=@(size)"]

[[variant]]
name = "jobs in the background"
crew = "processes"                 # how it works, in a word of yours
shell = '''
worker=0
while [ $worker -lt $ANTCREW_WORKERS ]; do
  awk -v n="$ANTCREW_SIZE" -v p="$ANTCREW_WORKERS" -v w=$worker '
    BEGIN { last = int(n * (w + 1) / p)
            for (i = int(n * w / p); i < last; ++i) sum += 2 * sin(i * 0.001) + 0.3 * cos(i * 0.017)
            printf "%.12f\n", sum }' > "$ANTCREW_FOLDER/part-$worker" &
  worker=$((worker + 1))
done
wait
cat "$ANTCREW_FOLDER"/part-* | awk -v n="$ANTCREW_SIZE" '{ sum += $1 } END { printf "%.9f\n", sum / n }'
'''
# command = ["./tides", "--soundings=@(size)", "--threads=@(workers)"]
# workers = [2, 4]                 # worker counts of its own
# launcher = ["mpirun", "-n", "@(workers)"]        # in front of the command; see docs/guides/cluster.md

# The same without the work: what starting and joining the jobs costs. A probe is never ranked.
[[variant]]
name = "jobs that do nothing"
crew = "processes"
probe_of = "jobs in the background"
shell = '''
worker=0
while [ $worker -lt $ANTCREW_WORKERS ]; do
  awk 'BEGIN { print 0 }' > "$ANTCREW_FOLDER/part-$worker" &
  worker=$((worker + 1))
done
wait
cat "$ANTCREW_FOLDER"/part-* | awk '{ sum += $1 } END { printf "%.9f\n", sum }'
'''
)toml";
}

}  // namespace antcrew::sweep_layer
