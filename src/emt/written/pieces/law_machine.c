/* Rotating machines without saliency. In the stator's two axes, current into the machine,
 *   v = Ra i + d(flux)/dt, flux = L i + psi;  of the shaft J dw/dt = T + T_shaft, from mass to mass.
 * What the rotor contributes to psi follows from its states x in the frame of the rotor: of an induction machine
 * dx/dt = (Rr/Lr) (Lm i - x), psi = (Lm/Lr) x; of magnets psi alone. A step predicts angle, speeds and x (Adams, Bashforth),
 * takes flux1 = flux0 + d (v1 - Ra i1) [+ d (v0 - Ra i0)], and corrects them by the trapezoidal rule (backward Euler).
 * Slots: currents 0 ... 2, torque, speed, sense in which the load brakes, flux 6 and 7, states from 8 on: angle,
 * speeds, twists, x. Settings: load torque, active torque, external resistance. */
enum { MASSES = 8, STATES = 2 * MASSES + 2 };
struct machine {
  double is_induction, resistance, inductance, pole_pairs, nominal_omega, load_exponent, masses;
  double main, rotor, rotor_resistance, magnet; /* Lm, Lr, Rr, psi */
  double inertia[MASSES], stiffness[MASSES], damping[MASSES];
};
/* Its memory: instants of the slopes before and of those that will be, the slopes before, then of this step the states
 * predicted, slopes at its begin and at its end. */
enum { SLOPE_TIME, COMING_TIME, BEFORE, PREDICTED = BEFORE + STATES, BEGIN = PREDICTED + STATES, LATER = BEGIN + STATES };
struct vector {
  double x, y;
};

static struct vector space_vector(double a, double b, double c)
{
  const struct vector v = {(2 * a - b - c) / 3, (b - c) / sqrt(3.0)};
  return v;
}
static double phase_of(struct vector v, int phase)
{
  return phase == 0 ? v.x : -0.5 * v.x + (phase == 1 ? 1 : -1) * sqrt(3.0) / 2 * v.y;
}
static struct vector turned(struct vector v, double angle)
{
  const double c = cos(angle), s = sin(angle);
  const struct vector by = {c * v.x - s * v.y, s * v.x + c * v.y};
  return by;
}
static struct vector volts_of(const struct law *l, const double *values)
{
  return space_vector(values[l->p[0]] - values[l->q[0]], values[l->p[1]] - values[l->q[1]], values[l->p[2]] - values[l->q[2]]);
}
static double electrical_torque(const struct machine *o, struct vector flux, struct vector i)
{
  return 1.5 * o->pole_pairs * (flux.x * i.y - flux.y * i.x);
}
static int machine_states(const struct machine *o) { return 2 * (int)o->masses + (o->is_induction > 0 ? 2 : 0); }

/* In the stator's axes. */
static struct vector rotor_flux(const struct machine *o, const double *y)
{
  const double *x = y + 2 * (int)o->masses;
  const double share = o->main / o->rotor;
  const struct vector psi = {o->is_induction > 0 ? share * x[0] : o->magnet, o->is_induction > 0 ? share * x[1] : 0};
  return turned(psi, y[0]);
}

/* On the outermost mass, beside the load's, which brakes it: against the sense in which it turns, and at rest up to
 * its own size where it does not fall with the speed. */
static double load_on(const struct machine *o, const struct law *l, double speed, double others, const double *values)
{
  const double torque = values[l->setting[0]], sense = values[l->first + 5];
  if (o->load_exponent != 0)
    return -copysign(torque * pow(fabs(speed) * o->pole_pairs / o->nominal_omega, o->load_exponent), speed);
  if (sense == 0) return others < -torque ? torque : others > torque ? -torque : -others;
  return -sense * torque;
}

static void machine_slopes(const struct machine *o, const struct law *l, const double *y, struct vector i,
                           struct vector flux, const double *values, double *dy)
{
  const int n = (int)o->masses;
  const double *speed = y + 1, *twist = y + n;
  double inner = electrical_torque(o, flux, i);
  dy[0] = o->pole_pairs * speed[0];
  for (int k = 0; k + 1 < n; ++k) {
    const double slip = speed[k + 1] - speed[k], outer = o->stiffness[k + 1] * twist[k + 1] + o->damping[k + 1] * slip;
    dy[n + k + 1] = slip;
    dy[1 + k] = (inner + outer) / o->inertia[k];
    inner = -outer;
  }
  const double others = inner + values[l->setting[1]];
  dy[n] = (others + load_on(o, l, speed[n - 1], others, values)) / o->inertia[n - 1];
  if (o->is_induction > 0) {
    const double decay = (o->rotor_resistance + values[l->setting[2]]) / o->rotor;
    const struct vector seen = turned(i, -y[0]);
    dy[2 * n] = decay * (o->main * seen.x - y[2 * n]);
    dy[2 * n + 1] = decay * (o->main * seen.y - y[2 * n + 1]);
  }
}

static void machine_begin(const struct machine *o, const struct law *l, const struct span *s, const double *old,
                          double *history, double *memory)
{
  const double *slots = old + l->first, *y = slots + 8;
  const struct vector i0 = space_vector(slots[0], slots[1], slots[2]), flux0 = {slots[6], slots[7]};
  double *before = memory + BEFORE, *predicted = memory + PREDICTED, *slope = memory + BEGIN;
  machine_slopes(o, l, y, i0, flux0, old, slope);
  /* Slopes at an instant before make the prediction one of second order. */
  const double from = s->until - s->length, behind = (from - memory[SLOPE_TIME]) / s->length;
  const double weight = s->trapezoidal && behind > 0.3 && behind < 1.01 ? 0.5 / behind : 0;
  for (int n = 0; n < machine_states(o); ++n)
    predicted[n] = y[n] + s->length * (slope[n] + weight * (slope[n] - before[n]));
  const int keeps = !s->beyond && (s->trapezoidal || from > memory[SLOPE_TIME] + 0.6 * STEP || from < memory[SLOPE_TIME]);
  memory[COMING_TIME] = keeps ? from : memory[SLOPE_TIME];
  const double d = STEP / 2, z = o->inductance / d + o->resistance;
  const struct vector psi = rotor_flux(o, predicted), v0 = volts_of(l, old);
  struct vector j = {(flux0.x - psi.x) / d, (flux0.y - psi.y) / d};
  if (s->trapezoidal) {
    j.x += v0.x - o->resistance * i0.x;
    j.y += v0.y - o->resistance * i0.y;
  }
  j.x /= z;
  j.y /= z;
  for (int n = 0; n < 3; ++n) history[n] = phase_of(j, n);
}

/* Behind a step: whether the outermost mass came to rest, or turned back. */
static void brake_machine(const struct machine *o, const struct law *l, double *now)
{
  const int n = (int)o->masses;
  double *y = now + l->first + 8, *sense = now + l->first + 5, *speed = y + n;
  if (o->load_exponent != 0) return;
  if (*sense != 0 && *sense * *speed <= 0) {
    const double torque = now[l->setting[0]];
    double others = now[l->first + 3];
    if (n > 1) others = -o->stiffness[n - 1] * y[2 * n - 1] - o->damping[n - 1] * (y[n] - y[n - 1]);
    others += now[l->setting[1]];
    *speed *= fabs(others) <= torque ? 0 : (others + *sense * torque) / (others - *sense * torque);
  }
  *sense = *speed == 0 ? 0 : copysign(1, *speed);
}

static void machine_end(const struct machine *o, const struct law *l, const struct span *s, const double *old,
                        double *now, const double *history, double *memory)
{
  const double d = STEP / 2, z = o->inductance / d + o->resistance;
  const double *was = old + l->first, *y0 = was + 8;
  double *slots = now + l->first, *y = slots + 8;
  const struct vector v1 = volts_of(l, now);
  const struct vector j = space_vector(history[0], history[1], history[2]), i1 = {j.x + v1.x / z, j.y + v1.y / z};
  struct vector flux = {was[6] + d * (v1.x - o->resistance * i1.x), was[7] + d * (v1.y - o->resistance * i1.y)};
  if (s->trapezoidal) {
    const struct vector i0 = space_vector(was[0], was[1], was[2]), v0 = volts_of(l, old);
    flux.x += d * (v0.x - o->resistance * i0.x);
    flux.y += d * (v0.y - o->resistance * i0.y);
  }
  for (int n = 0; n < 3; ++n) slots[n] = phase_of(i1, n);
  slots[6] = flux.x;
  slots[7] = flux.y;
  slots[5] = was[5];
  const double *slope = memory + BEGIN;
  double *later = memory + LATER;
  machine_slopes(o, l, memory + PREDICTED, i1, flux, now, later);
  for (int n = 0; n < machine_states(o); ++n)
    y[n] = y0[n] + d * (s->trapezoidal ? slope[n] + later[n] : later[n]);
  if (memory[COMING_TIME] != memory[SLOPE_TIME]) {
    memcpy(memory + BEFORE, slope, STATES * sizeof *slope);
    memory[SLOPE_TIME] = memory[COMING_TIME];
  }
  slots[3] = electrical_torque(o, flux, i1);
  brake_machine(o, l, now);
  slots[4] = y[1];
}
