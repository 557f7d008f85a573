#!/usr/bin/env python3
"""Headers as doxygen reads them: the opening comment becomes that of the file, and a plain comment right above or behind
a declaration becomes its documentation, in C as in C++. Copies, moves, destructors and comparisons member by member, which
mean what they mean everywhere, are left out. Lines keep their numbers."""
import re
import sys

with open(sys.argv[1], encoding="utf-8") as file:
    lines = file.read().split("\n")
usual = re.compile(
    r"^\s*(virtual )?(constexpr )?("
    r"~\w+\(\)|\w+\((const )?(\w+)&&?( \w+)?\)|\w+& operator=\((const )?\w+&&?( \w+)?\)|"
    r"(friend )?(constexpr )?(bool|auto) operator(==|<=>)\([^)]*\)( const)?)"
    r"( noexcept)?( override)?( = (default|delete))?;$")
out = []
opening = True
for line in lines:
    if opening and line.startswith("//"):
        line = "///" + line[2:]
    elif opening and line == "#pragma once":
        line = "/// @file"
        opening = False
    elif usual.match(line):
        line = ""
    if sys.argv[1].endswith("/c/kwind.h"):
        line = re.sub(r"^(\s*)/\* (?!----)", r"\1/** ", line) if line.lstrip().startswith("/*") else re.sub(r"/\* ", "/**< ", line)
    out.append(line)
sys.stdout.write("\n".join(out))
