#pragma once

#include "zavrek/bench/beside.hpp"
#include "zavrek/bench/cut.hpp"
#include "zavrek/bench/description.hpp"
#include "zavrek/bench/exchange.hpp"
#include "zavrek/bench/port.hpp"
#include "zavrek/bench/run.hpp"
#include "zavrek/bench/timetable.hpp"
