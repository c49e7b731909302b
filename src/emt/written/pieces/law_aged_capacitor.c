/* A capacitor with a series resistance and a share k of its capacitance left: v = R i + u, k C du/dt = i. With
 * d = h/(2 k C) either rule gives u = u' + d i. */
struct aged_capacitor {
  double series, rate, ages; /* R, h/(2 C), whether k is a setting */
};
static double aged_capacitor_rate(const struct aged_capacitor *c, const struct law *l, const double *values)
{
  return c->ages > 0 ? c->rate / values[l->setting[0]] : c->rate;
}
static double aged_capacitor_known(const struct aged_capacitor *c, const struct law *l, const struct span *s,
                                   const double *old)
{
  const double *before = old + l->first;
  return s->trapezoidal ? before[1] + aged_capacitor_rate(c, l, old) * before[0] : before[1];
}
static void aged_capacitor_begin(const struct aged_capacitor *c, const struct law *l, const struct span *s,
                                 const double *old, double *history, double *conductance)
{
  conductance[0] = 1 / (c->series + aged_capacitor_rate(c, l, old));
  history[0] = -conductance[0] * aged_capacitor_known(c, l, s, old);
}
static void aged_capacitor_end(const struct aged_capacitor *c, const struct law *l, const struct span *s,
                               const double *old, double *now, const double *history)
{
  double *slots = now + l->first;
  const double rate = aged_capacitor_rate(c, l, old);
  slots[0] = (now[l->p[0]] - now[l->q[0]]) / (c->series + rate) + history[0];
  slots[1] = aged_capacitor_known(c, l, s, old) + rate * slots[0];
}
