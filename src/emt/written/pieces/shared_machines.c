/* What rotating machines share. In the stator's two axes, current into the machine,
 *   v = Ra i + d(flux)/dt, flux = L(theta) i + psi, L = l0 + l2 [cos 2theta, sin 2theta; sin 2theta, -cos 2theta];
 * of the shaft J dw/dt = T + T_shaft, from mass to mass. What the rotor contributes to psi follows from its states x in
 * the frame of the rotor: of an induction machine dx/dt = (Rr/Lr) (Lm i - x), psi = (Lm/Lr) x; of magnets psi alone; of a
 * synchronous machine field, dampers, exciter and governor, below; of a doubly-fed one dx/dt = v - Rr (x - Lm i)/Lr. A step predicts angle, speeds and x (Adams, Bashforth),
 * takes flux1 = flux0 + d (v1 - Ra i1) [+ d (v0 - Ra i0)], and corrects them by the trapezoidal rule (backward Euler).
 * Slots: currents 0 ... 2, torque, speed, sense in which the load brakes, flux 6 and 7, states from 8 on: angle,
 * speeds, twists, x. Settings: load torque, active torque, external resistance; of a synchronous machine references of
 * voltage and power, field voltage. */
enum { MASSES = 8, ROTOR_STATES = 12, STATES = 2 * MASSES + ROTOR_STATES };
enum { MAGNETS, INDUCTION, SYNCHRONOUS, DOUBLY_FED };
/* Its memory: instants of the slopes before and of those that will be, the slopes before, then of this step the states
 * predicted, slopes at its begin and at its end, what a voltage brings of current (xx, xy, yy). */
enum {
  SLOPE_TIME, COMING_TIME, BEFORE, PREDICTED = BEFORE + STATES, BEGIN = PREDICTED + STATES, LATER = BEGIN + STATES,
  SIEMENS_XX = LATER + STATES, SIEMENS_XY, SIEMENS_YY
};
/* In per unit (Sauer and Pai, "Power System Dynamics and Stability", chapter 3; IEEE Std 421.5 types ST1A and DC1A). */
struct synchronous {
  double peak_V, peak_A, flux, rating, knee, bend;
  double xd, xd_transient, xd_subtransient, xq, xq_transient, xq_subtransient, leakage;
  double td0_transient, td0_subtransient, tq0_transient, tq0_subtransient;
  double exciter, gain, time, measuring, lag, lead, low, high; /* 0 none, 1 static, 2 a d.c. machine */
  double constant, machine_time, stabilizer_gain, stabilizer_time;
  double governor, servo, droop, temporary_droop, reset, most, water, reheat, reheat_share; /* 0 none, 1 steam, 2 hydro */
};
struct machine {
  double rotor_kind, resistance, inductance, saliency, pole_pairs, nominal_omega, load_exponent, masses;
  double main, stator, rotor, rotor_resistance, magnet, ratio; /* Lm, Ls, Lr, Rr, psi, of turns */
  double inertia[MASSES], stiffness[MASSES], damping[MASSES];
  struct synchronous synchronous;
};
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
/* Across three ends of the part. */
static struct vector volts_from(const struct law *l, int first, const double *values)
{
  const int *p = l->p + first, *q = l->q + first;
  return space_vector(values[p[0]] - values[q[0]], values[p[1]] - values[q[1]], values[p[2]] - values[q[2]]);
}
static struct vector volts_of(const struct law *l, const double *values) { return volts_from(l, 0, values); }
static double electrical_torque(const struct machine *o, struct vector flux, struct vector i)
{
  return 1.5 * o->pole_pairs * (flux.x * i.y - flux.y * i.x);
}
static int machine_states(const struct machine *o)
{
  const int kind = (int)o->rotor_kind;
  return 2 * (int)o->masses + (kind == SYNCHRONOUS ? ROTOR_STATES : kind == MAGNETS ? 0 : 2);
}

/* States of a synchronous machine's rotor. */
enum { EQ, PSI1D, ED, PSI2Q, FIELD, MEASURED, LEAD, REGULATOR, STABILIZER, OPENING, REHEAT, TRANSIENT };

static struct vector subtransient_flux(const struct synchronous *o, const double *x)
{
  const double a = (o->xd_subtransient - o->leakage) / (o->xd_transient - o->leakage);
  const double b = (o->xq_subtransient - o->leakage) / (o->xq_transient - o->leakage);
  const struct vector psi = {a * x[EQ] + (1 - a) * x[PSI1D], -b * x[ED] + (1 - b) * x[PSI2Q]};
  return psi;
}
/* A state at its limit moves only inwards. */
static double within_limits(double slope, double x, double low, double high)
{
  return (x >= high && slope > 0) || (x <= low && slope < 0) ? 0 : slope;
}
static void excite(const struct synchronous *o, const double *x, double voltage, double reference, double *dx)
{
  for (int k = FIELD; k <= STABILIZER; ++k) dx[k] = 0;
  if (o->exciter == 0) return;
  dx[MEASURED] = (voltage - x[MEASURED]) / o->measuring;
  double error = reference - x[MEASURED];
  if (o->exciter == 2) error -= o->stabilizer_gain / o->stabilizer_time * (x[FIELD] - x[STABILIZER]);
  double amplified = error;
  if (o->lag > 0) {
    dx[LEAD] = (error - x[LEAD]) / o->lag;
    amplified = x[LEAD] + o->lead / o->lag * (error - x[LEAD]);
  }
  dx[REGULATOR] = within_limits((o->gain * amplified - x[REGULATOR]) / o->time, x[REGULATOR], o->low, o->high);
  dx[FIELD] = dx[REGULATOR];
  if (o->exciter != 2) return;
  dx[FIELD] = (x[REGULATOR] - o->constant * x[FIELD]) / o->machine_time;
  dx[STABILIZER] = (x[FIELD] - x[STABILIZER]) / o->stabilizer_time;
}
static void govern(const struct synchronous *o, const double *x, double over_speed, double reference, double *dx)
{
  dx[OPENING] = dx[REHEAT] = dx[TRANSIENT] = 0;
  if (o->governor == 0) {
    dx[OPENING] = (reference - x[OPENING]) / o->servo;
    return;
  }
  double wanted = reference - over_speed / o->droop;
  if (o->governor == 2) { /* temporary droop */
    dx[TRANSIENT] = (x[OPENING] - x[TRANSIENT]) / o->reset;
    wanted = (reference * o->droop - over_speed + o->temporary_droop * x[TRANSIENT]) / (o->droop + o->temporary_droop);
  }
  dx[OPENING] = within_limits((wanted - x[OPENING]) / o->servo, x[OPENING], 0, o->most);
  dx[REHEAT] = (x[OPENING] - x[REHEAT]) / (o->governor == 2 ? o->water / 2 : o->reheat);
}
static void synchronous_slopes(const struct synchronous *o, const struct law *l, const double *x, struct vector i,
                               double over_speed, const double *values, double *dx)
{
  const double id = -i.x / o->peak_A, iq = -i.y / o->peak_A;
  const struct vector psi = subtransient_flux(o, x), v = volts_of(l, values);
  const double size = hypot(psi.x, psi.y), beyond = size - o->knee;
  const double s = size <= o->knee || o->bend == 0 ? 0 : o->bend * beyond * beyond / size;
  const double cross = (o->xq - o->leakage) / (o->xd - o->leakage);
  const double yd = o->xd_transient - o->leakage, yq = o->xq_transient - o->leakage;
  const double gd = (o->xd_transient - o->xd_subtransient) / (yd * yd), gq = (o->xq_transient - o->xq_subtransient) / (yq * yq);
  const double field = o->exciter == 0 ? values[l->setting[2]] : x[FIELD];
  dx[EQ] = (field - x[EQ] - s * psi.x - (o->xd - o->xd_transient) * (id - gd * (x[PSI1D] + yd * id - x[EQ]))) / o->td0_transient;
  dx[PSI1D] = (-x[PSI1D] + x[EQ] - yd * id) / o->td0_subtransient;
  dx[ED] = (-x[ED] + cross * s * psi.y + (o->xq - o->xq_transient) * (iq - gq * (x[PSI2Q] + yq * iq + x[ED]))) / o->tq0_transient;
  dx[PSI2Q] = (-x[PSI2Q] - x[ED] - yq * iq) / o->tq0_subtransient;
  excite(o, x, hypot(v.x, v.y) / o->peak_V, values[l->setting[0]], dx);
  govern(o, x, over_speed, values[l->setting[1]], dx);
}

/* What drives the outermost mass forwards, and what brakes it at nominal speed. */
static double active_torque(const struct machine *o, const struct law *l, const double *x, const double *values)
{
  const struct synchronous *g = &o->synchronous;
  if (o->rotor_kind != SYNCHRONOUS) return values[l->setting[1]];
  const double power = g->governor == 1   ? g->reheat_share * x[OPENING] + (1 - g->reheat_share) * x[REHEAT]
                       : g->governor == 2 ? 3 * x[REHEAT] - 2 * x[OPENING] /* (1 - Tw s)/(1 + Tw s/2) */
                                          : x[OPENING];
  return power * g->rating * o->pole_pairs / o->nominal_omega;
}
static double load_torque(const struct machine *o, const struct law *l, const double *values)
{
  return o->rotor_kind == SYNCHRONOUS ? 0 : values[l->setting[0]];
}

/* On the outermost mass, beside the load's, which brakes it: against the sense in which it turns, and at rest up to
 * its own size where it does not fall with the speed. */
static double load_on(const struct machine *o, const struct law *l, double speed, double others, const double *values)
{
  const double torque = load_torque(o, l, values), sense = values[l->first + 5];
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
  const double others = inner + active_torque(o, l, y + 2 * n, values);
  dy[n] = (others + load_on(o, l, speed[n - 1], others, values)) / o->inertia[n - 1];
  const struct vector seen = turned(i, -y[0]);
  if (o->rotor_kind == SYNCHRONOUS)
    synchronous_slopes(&o->synchronous, l, y + 2 * n, seen, dy[0] / o->nominal_omega - 1, values, dy + 2 * n);
  if (o->rotor_kind == INDUCTION) {
    const double decay = (o->rotor_resistance + values[l->setting[2]]) / o->rotor;
    dy[2 * n] = decay * (o->main * seen.x - y[2 * n]);
    dy[2 * n + 1] = decay * (o->main * seen.y - y[2 * n + 1]);
  }
  if (o->rotor_kind == DOUBLY_FED) {
    const struct vector v = volts_from(l, 3, values);
    dy[2 * n] = v.x / o->ratio - o->rotor_resistance * (y[2 * n] - o->main * seen.x) / o->rotor;
    dy[2 * n + 1] = v.y / o->ratio - o->rotor_resistance * (y[2 * n + 1] - o->main * seen.y) / o->rotor;
  }
}

static void predict_machine(const struct machine *o, const struct law *l, const struct span *s, const double *old,
                            struct vector i0, struct vector flux0, double *memory)
{
  const double *y = old + l->first + 8;
  double *before = memory + BEFORE, *predicted = memory + PREDICTED, *slope = memory + BEGIN;
  machine_slopes(o, l, y, i0, flux0, old, slope);
  /* Slopes at an instant before make the prediction one of second order. */
  const double from = s->until - s->length, behind = (from - memory[SLOPE_TIME]) / s->length;
  const double weight = s->trapezoidal && behind > 0.3 && behind < 1.01 ? 0.5 / behind : 0;
  for (int n = 0; n < machine_states(o); ++n)
    predicted[n] = y[n] + s->length * (slope[n] + weight * (slope[n] - before[n]));
  const int keeps = !s->beyond && (s->trapezoidal || from > memory[SLOPE_TIME] + 0.6 * STEP || from < memory[SLOPE_TIME]);
  memory[COMING_TIME] = keeps ? from : memory[SLOPE_TIME];
}

/* Behind a step: whether the outermost mass came to rest, or turned back. */
static void brake_machine(const struct machine *o, const struct law *l, double *now)
{
  const int n = (int)o->masses;
  double *y = now + l->first + 8, *sense = now + l->first + 5, *speed = y + n;
  if (o->load_exponent != 0) return;
  if (*sense != 0 && *sense * *speed <= 0) {
    const double torque = load_torque(o, l, now);
    double others = now[l->first + 3];
    if (n > 1) others = -o->stiffness[n - 1] * y[2 * n - 1] - o->damping[n - 1] * (y[n] - y[n - 1]);
    others += active_torque(o, l, y + 2 * n, now);
    *speed *= fabs(others) <= torque ? 0 : (others + *sense * torque) / (others - *sense * torque);
  }
  *sense = *speed == 0 ? 0 : copysign(1, *speed);
}

/* Speeds, angles and x, from the stator's current and flux. */
static void correct_machine(const struct machine *o, const struct law *l, const struct span *s, const double *old,
                            double *now, struct vector i1, struct vector flux, double *memory)
{
  const double d = STEP / 2, *was = old + l->first, *y0 = was + 8;
  double *slots = now + l->first, *y = slots + 8;
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
