/* A capacitor with a series resistance: v = R i + u, C du/dt = i. With d = h/(2 C) either rule gives u = u' + d i. */
struct aged_capacitor {
  double siemens, rate; /* 1/(R + d), d */
};
static double aged_capacitor_known(const struct aged_capacitor *c, const struct span *s, const double *before)
{
  return s->trapezoidal ? before[1] + c->rate * before[0] : before[1];
}
static void aged_capacitor_begin(const struct aged_capacitor *c, const struct law *l, const struct span *s,
                                 const double *old, double *history)
{
  history[0] = -c->siemens * aged_capacitor_known(c, s, old + l->first);
}
static void aged_capacitor_end(const struct aged_capacitor *c, const struct law *l, const struct span *s,
                               const double *old, double *now, const double *history)
{
  double *slots = now + l->first;
  slots[0] = c->siemens * (now[l->p[0]] - now[l->q[0]]) + history[0];
  slots[1] = aged_capacitor_known(c, s, old + l->first) + c->rate * slots[0];
}
