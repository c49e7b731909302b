// Frames of a digital substation: their addresses, sampled values, GOOSE, and the medium that carries them.
#pragma once

#include "zavrek/wire/ethernet.hpp"
#include "zavrek/wire/goose.hpp"
#include "zavrek/wire/link.hpp"
#include "zavrek/wire/sampled_values.hpp"
