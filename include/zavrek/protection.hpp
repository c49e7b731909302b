#pragma once

#include "zavrek/protection/curve.hpp"
#include "zavrek/protection/measuring.hpp"
#include "zavrek/protection/relay.hpp"
#include "zavrek/protection/settings.hpp"
