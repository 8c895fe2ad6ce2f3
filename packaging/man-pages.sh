#!/usr/bin/env bash
# Writes a manual page for the program and one for each command, from what they say of themselves:
# packaging/man-pages.sh PROGRAM DIR
set -euo pipefail
program=$1
to=$2
mkdir -p "$to"
version=$("$program" --version | cut -d' ' -f2)

# Text that roff must not take for its own.
roff() { sed -e 's/\\/\\e/g' -e "s/^\([.']\)/\\\\\&\1/" -e 's/-/\\-/g'; }

# Help text to a page. Options become paragraphs with a tag; what else is laid out stays as it is.
page() {
  awk '
    function leave() { if (kept) { print ".fi\n.RE"; kept = 0 } }
    NR == 1 && /^undershelf / { next }                # the usage, told in the synopsis
    NR <= 2 && /^$/ { next }
    /^[A-Z][^.]*:$/ { leave(); sub(/:$/, ""); print ".SH " toupper($0); inside = $0; next }
    /^  (-|\\-)/ && inside != "Example" {
      leave(); match($0, /[^ ]  +[^ ]/)
      if (RSTART) { tag = substr($0, 3, RSTART - 2); text = substr($0, RSTART + RLENGTH - 1) }
      else { tag = substr($0, 3); text = "" }
      print ".TP\n.B " tag; if (text != "") print text; option = 1; next
    }
    /^                [ ]*[^ ]/ && option { sub(/^ +/, ""); print; next }
    /^ / { option = 0; if (!kept) { print ".RS\n.nf"; kept = 1 } print; next }
    /^$/ { option = 0; leave(); if (inside == "") print ".PP"; next }
    { option = 0; leave(); print }
    END { leave() }'
}

write() {  # name, usage, summary; the help on standard input
  {
    printf '.TH %s 1 "" "undershelf %s" "Under Shelf"\n' "${1^^}" "$version"
    printf '.SH NAME\n%s \\- %s\n' "$1" "$(roff <<<"$3")"
    printf '.SH SYNOPSIS\n.B %s\n.SH DESCRIPTION\n' "$(roff <<<"$2")"
    COLUMNS=200 roff | page
    printf '.SH EXIT STATUS\n0: done. 1: done, but incomplete; what is, is said. 2: the call is wrong. 3: the source or\n'
    printf 'shelf cannot be opened or does not match. 4: refused for safety.\n'
  } >"$to/$1.1"
  gzip -9nf "$to/$1.1"
}

"$program" --help | write undershelf "undershelf COMMAND ..." \
  "gets files back from volumes on which they were deleted, or that were formatted"
"$program" --help | sed -n 's/^  \([a-z]\{3,8\}\) \+[A-Z].*/\1/p' | while read -r command; do
  help=$(COLUMNS=200 "$program" help "$command")
  summary=$(sed -n 3p <<<"$help")
  write "undershelf-$command" "$(head -1 <<<"$help")" "${summary%.}" <<<"$help"
done
