/* The rotor's winding has ends too, in the frame of the rotor and referred to the stator:
 *   psi_s = Ls i_s + Lm i_r e^(j theta), psi_r = Lr i_r + Lm i_s e^(-j theta), v = R i + dpsi/dt each.
 * With theta predicted, a = Ls/d + Rs, b = Lr/d + Rr, m = Lm/d and e what is known of either side:
 *   i_s = (b (v_s + e_s) - m e^(j theta) (v_r + e_r)) / (a b - m^2), i_r likewise.
 * Behind the slots of all machines: currents of the rotor, three, and how many stretches it has seen, up to two. */
struct doubly_fed {
  struct machine machine;
};

/* Both currents for voltages on both sides, the rotor's referred to the stator; turn: e^(j theta). */
static void doubly_fed_currents(const struct machine *o, const double *turn, struct vector s, struct vector r,
                                struct vector *is, struct vector *ir)
{
  const double d = STEP / 2, a = o->stator / d + o->resistance, b = o->rotor / d + o->rotor_resistance, m = o->main / d;
  const double whole = a * b - m * m;
  const struct vector at_stator = {turn[0] * r.x - turn[1] * r.y, turn[1] * r.x + turn[0] * r.y};
  const struct vector at_rotor = {turn[0] * s.x + turn[1] * s.y, turn[0] * s.y - turn[1] * s.x};
  is->x = (b * s.x - m * at_stator.x) / whole;
  is->y = (b * s.y - m * at_stator.y) / whole;
  ir->x = (a * r.x - m * at_rotor.x) / whole;
  ir->y = (a * r.y - m * at_rotor.y) / whole;
}
static struct vector rotor_volts(const struct machine *o, const struct law *l, const double *values)
{
  struct vector v = volts_from(l, 3, values);
  v.x /= o->ratio;
  v.y /= o->ratio;
  return v;
}
static int rotor_slot(const struct machine *o) { return 8 + machine_states(o); }
static struct vector rotor_current(const struct machine *o, const double *slots)
{
  const double *i = slots + rotor_slot(o);
  const struct vector v = space_vector(i[0], i[1], i[2]), referred = {o->ratio * v.x, o->ratio * v.y};
  return referred;
}

static void doubly_fed_begin(const struct doubly_fed *f, const struct law *l, const struct span *s, const double *old,
                             double *history, double *memory, double *conductance)
{
  const struct machine *o = &f->machine;
  const double *slots = old + l->first, *x = slots + 8 + 2 * (int)o->masses, d = STEP / 2;
  const struct vector i = space_vector(slots[0], slots[1], slots[2]), ir = rotor_current(o, slots), flux = {slots[6], slots[7]};
  predict_machine(o, l, s, old, i, flux, memory);
  double *turn = memory + SIEMENS_XX; /* in place of a salient machine's conductances */
  turn[0] = cos(memory[PREDICTED]);
  turn[1] = sin(memory[PREDICTED]);
  struct vector es = {flux.x / d, flux.y / d}, er = {x[0] / d, x[1] / d}, js, jr;
  if (s->trapezoidal) {
    const struct vector vs = volts_of(l, old), vr = rotor_volts(o, l, old);
    es.x += vs.x - o->resistance * i.x;
    es.y += vs.y - o->resistance * i.y;
    er.x += vr.x - o->rotor_resistance * ir.x;
    er.y += vr.y - o->rotor_resistance * ir.y;
  }
  doubly_fed_currents(o, turn, es, er, &js, &jr);
  for (int k = 0; k < 3; ++k) {
    history[k] = phase_of(js, k);
    history[3 + k] = phase_of(jr, k) / o->ratio;
  }
  for (int c = 0; c < 6; ++c) {
    const int phase = c % 3;
    const struct vector none = {0, 0}, one = {phase == 0 ? 2.0 / 3 : -1.0 / 3, phase == 0 ? 0 : (phase == 1 ? 1 : -1) / sqrt(3.0)};
    const struct vector referred = {one.x / o->ratio, one.y / o->ratio};
    doubly_fed_currents(o, turn, c < 3 ? one : none, c < 3 ? none : referred, &js, &jr);
    for (int r = 0; r < 3; ++r) {
      conductance[6 * r + c] = phase_of(js, r);
      conductance[6 * (3 + r) + c] = phase_of(jr, r) / o->ratio;
    }
  }
}

static void doubly_fed_end(const struct doubly_fed *f, const struct law *l, const struct span *s, const double *old,
                           double *now, const double *history, double *memory)
{
  const struct machine *o = &f->machine;
  const int rotor = rotor_slot(o), x = 8 + 2 * (int)o->masses;
  const double *was = old + l->first, d = STEP / 2;
  double *slots = now + l->first;
  const struct vector vs = volts_of(l, now), vr = rotor_volts(o, l, now);
  const struct vector js = space_vector(history[0], history[1], history[2]), jr = space_vector(history[3], history[4], history[5]);
  struct vector is, ir;
  doubly_fed_currents(o, memory + SIEMENS_XX, vs, vr, &is, &ir);
  is.x += js.x;
  is.y += js.y;
  ir.x += jr.x * o->ratio;
  ir.y += jr.y * o->ratio;
  for (int k = 0; k < 3; ++k) {
    slots[k] = phase_of(is, k);
    slots[rotor + k] = phase_of(ir, k) / o->ratio;
  }
  struct vector flux = {was[6] + d * (vs.x - o->resistance * is.x), was[7] + d * (vs.y - o->resistance * is.y)};
  struct vector own = {was[x] + d * (vr.x - o->rotor_resistance * ir.x), was[x + 1] + d * (vr.y - o->rotor_resistance * ir.y)};
  if (s->trapezoidal) {
    const struct vector i0 = space_vector(was[0], was[1], was[2]), ir0 = rotor_current(o, was);
    const struct vector vs0 = volts_of(l, old), vr0 = rotor_volts(o, l, old);
    flux.x += d * (vs0.x - o->resistance * i0.x);
    flux.y += d * (vs0.y - o->resistance * i0.y);
    own.x += d * (vr0.x - o->rotor_resistance * ir0.x);
    own.y += d * (vr0.y - o->rotor_resistance * ir0.y);
  }
  slots[rotor + 3] = was[rotor + 3] + 1 < 2 ? was[rotor + 3] + 1 : 2;
  correct_machine(o, l, s, old, now, is, flux, memory);
  slots[x] = own.x;
  slots[x + 1] = own.y;
}

/* The voltage of the slip stands at the rings from the start on, where the steady state had none. */
static int doubly_fed_jumps(const struct doubly_fed *f, const struct law *l, const double *now, const double *memory)
{
  (void)memory;
  return now[l->first + rotor_slot(&f->machine) + 3] == 1;
}
