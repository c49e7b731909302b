/* A controller of one's own as a shared library: the braking resistor of a drive, on above one voltage and off
 * below another,
 *   y = 1 when v > on, 0 when v < off, else as before.
 *
 *   [own.brake]
 *   library = "libown_controller.so"
 *   inputs = ["v: C1.v"]
 *   parameters = ["on: 700", "off: 680"]
 */
#include <stdlib.h>

#include "zavrek/controller.h"

struct brake {
  double on, off, state;
};

static const char* const inputs[] = {"v", 0};
static const char* const outputs[] = {"valve", 0};
static const char* const parameters[] = {"on", "off", 0};

static void* init(double period_s, const double* values) {
  struct brake* b;
  (void)period_s;
  if (!(values[0] > values[1])) return 0; /* one is missing (NaN), or they are the wrong way round */
  b = malloc(sizeof *b);
  b->on = values[0];
  b->off = values[1];
  b->state = 0;
  return b;
}

static int step(void* state, double time_s, const double* in, double* out) {
  struct brake* b = state;
  (void)time_s;
  if (in[0] > b->on) b->state = 1;
  if (in[0] < b->off) b->state = 0;
  out[0] = b->state;
  return 0;
}

const zavrek_controller_code* zavrek_controller(void) {
  static const zavrek_controller_code code = {ZAVREK_CONTROLLER_VERSION, inputs, outputs, parameters, init, step, free};
  return &code;
}
