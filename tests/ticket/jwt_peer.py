"""Tickets by Debian's python3-jwt, for ticket_test.cpp.

issue JWK CLAIMS [ALG]    prints a token
check JWK AUDIENCE TOKEN  prints the claims, or what is wrong
"""

import json
import sys

import jwt
from jwt.algorithms import OKPAlgorithm


def main():
    key = OKPAlgorithm.from_jwk(sys.argv[2])
    if sys.argv[1] == "issue":
        print(jwt.encode(json.loads(sys.argv[3]), key, algorithm="EdDSA"))
    else:
        claims = jwt.decode(sys.argv[4], key, algorithms=["EdDSA"], audience=sys.argv[3])
        print(json.dumps(claims, sort_keys=True))


main()
