"""One end of a Noise_NK handshake, by Debian's python3-dissononce, for handshake_test.cpp.

responder PROLOGUE SECRET MESSAGE PAYLOAD   prints what it read, its message, both keys
initiator PROLOGUE PUBLIC PAYLOAD           prints its message, reads the answer's line, prints the rest
All in hexadecimal.
"""

import sys

from dissononce.cipher.chachapoly import ChaChaPolyCipher
from dissononce.dh.x25519.private import PrivateKey
from dissononce.dh.x25519.public import PublicKey
from dissononce.dh.x25519.x25519 import X25519DH
from dissononce.hash.blake2b import Blake2bHash
from dissononce.processing.handshakepatterns.interactive.NK import NKHandshakePattern
from dissononce.processing.impl.cipherstate import CipherState
from dissononce.processing.impl.handshakestate import HandshakeState
from dissononce.processing.impl.symmetricstate import SymmetricState


def main():
    role, prologue, key = sys.argv[1], bytes.fromhex(sys.argv[2]), bytes.fromhex(sys.argv[3])
    dh = X25519DH()
    state = HandshakeState(SymmetricState(CipherState(ChaChaPolyCipher()), Blake2bHash()), dh)
    payload = bytearray()
    message = bytearray()
    if role == "responder":
        pair = dh.generate_keypair(PrivateKey(key))
        state.initialize(NKHandshakePattern(), False, prologue, s=pair)
        state.read_message(bytes.fromhex(sys.argv[4]), payload)
        print(payload.hex())
        up, down = state.write_message(bytes.fromhex(sys.argv[5]), message)
        print(message.hex())
    else:
        state.initialize(NKHandshakePattern(), True, prologue, rs=PublicKey(key))
        state.write_message(bytes.fromhex(sys.argv[4]), message)
        print(message.hex(), flush=True)
        up, down = state.read_message(bytes.fromhex(sys.stdin.readline().strip()), payload)
        print(payload.hex())
    print(up._key.hex())
    print(down._key.hex())


main()
