# Phases for a shell script: read it in with `. "$ANTCREW_STUDY/phases.sh"`, then
#   begin=$(now); …; phase merge "$begin"          and   counter readings 1000
now() { date +%s.%N; }
phase() { echo "{\"phase\": \"$1\", \"begin\": $2, \"end\": $(now), \"worker\": \"${3:-0}\"}" >>"${ANTCREW_PHASES:-/dev/null}"; }
counter() { echo "{\"counter\": \"$1\", \"add\": $2}" >>"${ANTCREW_PHASES:-/dev/null}"; }
