# Gives a page generator the comments of our headers in the form it reads: what stands first describes the file, whole
# lines describe what follows them, the rest of a line describes what stands before it. Lines that are set in by three
# blanks are code.
function flush_block(file,   i, line, code) {
  if (count == 0) return
  print file ? "/** @file" : "/**"
  code = 0
  for (i = 1; i <= count; ++i) {
    line = block[i]
    gsub(/\*\//, "* /", line)
    if (line ~ /^  +[^ ]/ || (code && line ~ /^ *$/ && i < count && block[i + 1] ~ /^  +[^ ]/)) {
      if (!code) print "@code{.cpp}"
      code = 1
      print line
    } else {
      if (code) print "@endcode"
      code = 0
      gsub(/[<>@\\#%]/, "\\\\&", line)
      print line
    }
  }
  if (code) print "@endcode"
  print "*/"
  count = 0
}
BEGIN { first = 1; count = 0 }
{
  if ($0 ~ /^ *\/\/( |$)/) {
    line = $0
    sub(/^ *\/\/ ?/, "", line)
    block[++count] = line
    next
  }
  if (count > 0) {
    if (first) flush_block(1)
    else if ($0 ~ /^ *$/ || $0 ~ /^ *(}|#|public:|private:)/) { count = 0 }  # speaks of no single thing
    else flush_block(0)
    first = 0
  }
  first = first && $0 ~ /^ *$/
  if ($0 !~ /\/\/ namespace / && match($0, /[;,{}]  +\/\/ /)) {
    tail = substr($0, RSTART + RLENGTH)
    gsub(/[<>@\\#%]/, "\\\\&", tail)
    print substr($0, 1, RSTART) "  ///< " tail
    next
  }
  print
}
END { if (count > 0) flush_block(0) }
