#!/usr/bin/env bash
# Every source of ours is as clang-format leaves it.
set -u
cd "$(dirname "$0")/../.." || exit 2
format=$(command -v clang-format-14 || command -v clang-format) || { echo "no clang-format"; exit 2; }
find include src tests tool examples bench fuzz \( -name '*.h' -o -name '*.cpp' \) -print0 |
  xargs -0 "$format" --dry-run -Werror 2>&1 | head -20
exit "${PIPESTATUS[1]}"
