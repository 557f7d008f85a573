// Kestrel Wind: typed messages, requests and replicated entities between a game server and its
// clients. This header is what a program includes first; kwind::Server and kwind::Client are the
// way in.
#pragma once
#include "kwind/client.h"
#include "kwind/server.h"
#include "kwind/version.h"
