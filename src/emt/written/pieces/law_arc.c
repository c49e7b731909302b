/* A fault arc: dg/dt = (G - g)/tau, G = |i| / (u0 + r0 |i|). Slots: current, conductance. */
struct arc {
  double voltage, resistance, time;
};
/* Before any current flows the arc waits, ignited. */
static double arc_siemens(const struct arc *o, const struct span *s, const double *before)
{
  const double current = fabs(before[0]), settled = current / (o->voltage + o->resistance * current);
  const double next = current < 1e-3 ? before[1] : settled + (before[1] - settled) * exp(-s->length / o->time);
  return next > 1e-6 ? next : 1e-6;
}
static void arc_begin(const struct arc *o, const struct law *l, const struct span *s, const double *old, double *history,
                      double *conductance)
{
  history[0] = 0;
  conductance[0] = arc_siemens(o, s, old + l->first);
}
static void arc_end(const struct arc *o, const struct law *l, const struct span *s, const double *old, double *now,
                    const double *history)
{
  double *slots = now + l->first;
  (void)history;
  slots[1] = arc_siemens(o, s, old + l->first);
  slots[0] = slots[1] * (now[l->p[0]] - now[l->q[0]]);
}
