# function-lengths.awk -v limit=N FILE... - names functions of more than N lines. It reads what clang-format has written: a
# function begins with a line that ends in '{', at the margin or as a member, and ends with '}' under its beginning.
FNR == 1 { inside = 0 }
!inside && /^[A-Za-z].*[^;]\{$/ && !/^(namespace|class|struct|enum|extern|union)/ && !/= \{$/ { inside = 1; start = FNR; last = "^}" }
!inside && /^    .*\) (const )?(override )?\{$/ && previous ~ /^[A-Za-z].*[(,]$/ { inside = 1; start = FNR; last = "^}" }
!inside && /^  [A-Za-z~\[].*\{$/ && !/^  (class|struct|enum|union|public|private|switch|if|for|while|return|else|try|do)/ { inside = 1; start = FNR; last = "^  }" }
inside && $0 ~ last {
  if (FNR - start + 1 > limit) printf "%s:%d: a function of %d lines\n", FILENAME, start, FNR - start + 1
  inside = 0
}
{ previous = $0 }
