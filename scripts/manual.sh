#!/usr/bin/env bash
# Pages of the manual, one a command, and what completes words in bash and zsh, from what the command says of itself.
# Usage: manual.sh COMMAND HELP2MAN FOLDER
set -eu
command=$1; help2man=$2; to=$3
rm -rf "$to"; mkdir -p "$to/man1"
version=$("$command" --version)
about() { "$command" "$@" --help | head -1; }
"$help2man" --no-info --name "measures parallel rewrites of sequential programs" --output "$to/man1/antcrew.1" "$command"
for name in $("$command" --help | sed -n '/^Subcommands:/,$s/^  \([a-z]*\) .*/\1/p'); do
  wrapper=$to/antcrew-$name  # the page's maker runs one word
  printf '#!/bin/sh\n[ "$1" = --version ] && exec echo "antcrew-%s %s"\nexec %s %s "$@"\n' "$name" "${version#antcrew }" "$command" "$name" >"$wrapper"
  chmod +x "$wrapper"
  if [ "$name" = demo ]; then continue; fi  # its options are the example's
  "$help2man" --no-info --name "$(about "$name")" --output "$to/man1/antcrew-$name.1" "$wrapper"
done
rm -f "$to"/antcrew-*
"$command" help --completion bash >"$to/antcrew.bash"
"$command" help --completion zsh >"$to/antcrew.zsh"
gzip -9n "$to"/man1/*.1
touch "$to/made"
