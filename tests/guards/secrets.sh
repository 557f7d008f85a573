#!/usr/bin/env bash
# Secrets are compared in constant time, by sodium_memcmp alone: what compares bytes and ends at the first difference
# appears nowhere but in io, which compares addresses.
set -u
cd "$(dirname "$0")/../.."
found=$(grep -rnE '(^|[^_[:alnum:]])(std::)?(memcmp|bcmp|strcmp|strncmp) ?\(' src include --include='*.cpp' --include='*.h' | grep -v '^src/io/')
found+=$(grep -rniE 'std::(equal|mismatch|lexicographical_compare)\(.*(secret|key_)' src include --include='*.cpp' --include='*.h')
if [ -n "$found" ]; then
  echo "$found"
  echo "compare secrets with same_secret() of kwind/core/secret.h"
  exit 1
fi
