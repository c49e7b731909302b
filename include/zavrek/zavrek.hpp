#pragma once

#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/error.hpp"
#include "zavrek/network.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/protection.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/record.hpp"
#include "zavrek/report.hpp"
#include "zavrek/trial.hpp"
#include "zavrek/wire.hpp"
