/* Machines whose stator alone has ends. */
/* Of a symmetric matrix xx, xy, yy and a vector. */
static struct vector driven_by(const double *g, struct vector v)
{
  const struct vector i = {g[0] * v.x + g[1] * v.y, g[1] * v.x + g[2] * v.y};
  return i;
}

/* In the stator's axes. */
static struct vector rotor_flux(const struct machine *o, const double *y)
{
  const double *x = y + 2 * (int)o->masses;
  struct vector psi = {o->magnet, 0};
  if (o->rotor_kind == INDUCTION || o->rotor_kind == DOUBLY_FED) {
    psi.x = o->main / o->rotor * x[0];
    psi.y = o->main / o->rotor * x[1];
  } else if (o->rotor_kind == SYNCHRONOUS) {
    psi = subtransient_flux(&o->synchronous, x);
    psi.x *= o->synchronous.flux;
    psi.y *= o->synchronous.flux;
  }
  return turned(psi, y[0]);
}

static void machine_begin(const struct machine *o, const struct law *l, const struct span *s, const double *old,
                          double *history, double *memory, double *conductance)
{
  const double *slots = old + l->first;
  const struct vector i0 = space_vector(slots[0], slots[1], slots[2]), flux0 = {slots[6], slots[7]};
  predict_machine(o, l, s, old, i0, flux0, memory);
  const double *predicted = memory + PREDICTED;
  const double d = STEP / 2, c = o->saliency * cos(2 * predicted[0]);
  const double xx = (o->inductance + c) / d + o->resistance, yy = (o->inductance - c) / d + o->resistance;
  const double xy = o->saliency * sin(2 * predicted[0]) / d, whole = xx * yy - xy * xy;
  double *g = memory + SIEMENS_XX;
  g[0] = yy / whole;
  g[1] = -xy / whole;
  g[2] = xx / whole;
  const struct vector psi = rotor_flux(o, predicted), v0 = volts_of(l, old);
  struct vector j = {(flux0.x - psi.x) / d, (flux0.y - psi.y) / d};
  if (s->trapezoidal) {
    j.x += v0.x - o->resistance * i0.x;
    j.y += v0.y - o->resistance * i0.y;
  }
  j = driven_by(g, j);
  for (int r = 0; r < 3 && o->saliency != 0; ++r)
    for (int k = 0; k < 3; ++k) {
      const struct vector of_phase = {k == 0 ? 2.0 / 3 : -1.0 / 3, k == 0 ? 0 : (k == 1 ? 1 : -1) / sqrt(3.0)};
      conductance[3 * r + k] = phase_of(driven_by(g, of_phase), r);
    }
  for (int n = 0; n < 3; ++n) history[n] = phase_of(j, n);
}

static void machine_end(const struct machine *o, const struct law *l, const struct span *s, const double *old,
                        double *now, const double *history, double *memory)
{
  const double d = STEP / 2;
  const double *was = old + l->first;
  double *slots = now + l->first;
  const struct vector v1 = volts_of(l, now);
  const struct vector j = space_vector(history[0], history[1], history[2]), added = driven_by(memory + SIEMENS_XX, v1);
  const struct vector i1 = {j.x + added.x, j.y + added.y};
  struct vector flux = {was[6] + d * (v1.x - o->resistance * i1.x), was[7] + d * (v1.y - o->resistance * i1.y)};
  if (s->trapezoidal) {
    const struct vector i0 = space_vector(was[0], was[1], was[2]), v0 = volts_of(l, old);
    flux.x += d * (v0.x - o->resistance * i0.x);
    flux.y += d * (v0.y - o->resistance * i0.y);
  }
  for (int n = 0; n < 3; ++n) slots[n] = phase_of(i1, n);
  correct_machine(o, l, s, old, now, i1, flux, memory);
}
