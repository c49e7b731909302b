/* Filament lamps as an element of one's own: their resistance follows their temperature, which follows the power that
 * heats them and what they radiate. Cold they draw many times their rated current.
 *
 *   dT/dt = (p/P - (T/T1)^4) / c,   R = R1 (T/T1)^1.2,   R1 = U^2/P
 *
 *   [own_element.lamps]
 *   library = "libfilament.so"
 *   between = ["berth", "ground"]
 *   parameters = ["rated_power: 2 kW", "rated_voltage: 230 V"]
 */
#include <math.h>

#include "zavrek/element.h"

enum { rated_power, rated_voltage, heat };
enum { temperature, conductance_now };

static const double t1 = 2700, t_cold = 300; /* K */

static const zavrek_element_parameter parameters[] = {
    {"rated_power", "W", 100, 1e-3, 1e9, 0},
    {"rated_voltage", "V", 230, 1, 1e6, 0},
    {"heat", "", 2e-4, 1e-9, 1, 0}, /* c, s/K: what its rated power takes to heat it by a kelvin */
};
static const zavrek_element_state states[] = {{"temperature", "K"}, {0, 0}};

static double siemens(const double* p, double kelvin) {
  return p[rated_power] / (p[rated_voltage] * p[rated_voltage]) * pow(kelvin / t1, -1.2);
}
static void conductance(const double* p, double h, double* g) {
  (void)h;
  g[0] = siemens(p, t1);
}
static void admittance(const double* p, double s, double omega, double* y) {
  (void)s, (void)omega;
  y[0] = siemens(p, t1);
  y[1] = 0;
}
/* Lit where there is a voltage, cold where there is none. */
static void start(const double* p, double s, double omega, const double* v, const double* i, double* x) {
  (void)s, (void)omega, (void)i;
  x[temperature] = v[0] * v[0] + v[1] * v[1] > 1 ? t1 : t_cold;
  x[conductance_now] = siemens(p, x[temperature]);
}
static int begin(const zavrek_element_span* span, const double* p, const double* x, const double* v, const double* i,
                 double* history, double* g) {
  (void)span, (void)p, (void)v, (void)i;
  const int changed = g[0] != x[conductance_now];
  g[0] = x[conductance_now];
  history[0] = 0;
  return changed;
}
static void finish(const zavrek_element_span* span, const double* p, const double* x, const double* v, const double* i,
                   double* next) {
  const double length = span->whole ? span->h : span->h / 2;
  const double power = v[0] * i[0] / p[rated_power], ratio = x[temperature] / t1;
  next[temperature] = x[temperature] + length * (power - ratio * ratio * ratio * ratio) / p[heat];
  if (next[temperature] < t_cold) next[temperature] = t_cold;
  next[conductance_now] = siemens(p, next[temperature]);
}

static const zavrek_element element = {.version = ZAVREK_ELEMENT_VERSION,
                                       .doc = "filament lamps, whose resistance follows their temperature",
                                       .ends = 1,
                                       .states = 2,
                                       .parameters = 3,
                                       .state = states,
                                       .parameter = parameters,
                                       .varies = 1,
                                       .conductance = conductance,
                                       .admittance = admittance,
                                       .start = start,
                                       .begin = begin,
                                       .finish = finish};
const zavrek_element* zavrek_element_describe(void) { return &element; }
