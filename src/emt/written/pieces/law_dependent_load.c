/* A load whose power depends on its voltage: per phase P(U) = P0 (z U^2 + c U + p), Q alike. A conductance in parallel
 * with an inductance or a capacitance stands for it; the network sees K times the conductance and the inductance, the
 * difference is a current from the voltage that is to come,
 *   i = K (g v + b flux) + C dv/dt + (k - K)(g v' + b flux') + (k - 1) C w',  k = z + c/U + p/U^2,
 * v' being v and the flux, its quadrature, turned on by a step, w' the rate of that. Slots of each end: current, flux, mean
 * square, current of the capacitance. */
struct dependent_load {
  double conductance, inverse_inductance, capacitance, leak, middle, nominal, current_share, power_share, least, response;
  double in_phase, across;
  double whole[4], half[4]; /* shares of voltage and flux in the voltage to come, then in its rate */
};
static double load_factor(const struct dependent_load *o, double mean_square)
{
  const double u = sqrt(mean_square > 0 ? mean_square : 0) / o->nominal, held = u > o->least ? u : o->least;
  return 1 - o->current_share - o->power_share + o->current_share / held + o->power_share / (held * held);
}
static double load_flux(const struct dependent_load *o, const struct span *s, double flux, double v)
{
  const double d = STEP / 2;
  return (s->trapezoidal ? flux * (1 - d * o->leak) + d * v : flux) / (1 + d * o->leak);
}
static void dependent_load_begin(const struct dependent_load *o, const struct law *l, const struct span *s,
                                 const double *old, double *history)
{
  const int n = l->ends;
  const double *slots = old + l->first, *to = s->trapezoidal ? o->whole : o->half, d = STEP / 2;
  for (int k = 0; k < n; ++k) {
    const double v = old[l->p[k]] - old[l->q[k]], flux = slots[n + k], share = load_factor(o, slots[2 * n + k]);
    const double kept = load_flux(o, s, flux, v), ahead = to[0] * v + to[1] * flux;
    double j = o->middle * o->inverse_inductance * kept;
    if (o->capacitance > 0) j -= o->capacitance / d * v + (s->trapezoidal ? slots[3 * n + k] : 0);
    j += (share - o->middle) * (o->conductance * ahead + o->inverse_inductance * (kept + d / (1 + d * o->leak) * ahead));
    history[k] = j + (share - 1) * o->capacitance * (to[2] * v + to[3] * flux);
  }
}
static void dependent_load_end(const struct dependent_load *o, const struct law *l, const struct span *s,
                               const double *old, double *now, const double *history)
{
  const int n = l->ends;
  const double *before = old + l->first, d = STEP / 2, share = 1 - exp(-s->length / o->response);
  const double g = o->middle * (o->conductance + o->inverse_inductance * d / (1 + d * o->leak)) + o->capacitance / d;
  double *slots = now + l->first;
  for (int k = 0; k < n; ++k) {
    const double v = now[l->p[k]] - now[l->q[k]], v0 = old[l->p[k]] - old[l->q[k]];
    slots[k] = history[k] + g * v;
    slots[n + k] = load_flux(o, s, before[n + k], v0) + d / (1 + d * o->leak) * v;
    const double quadrature = (slots[n + k] - o->in_phase * v) / o->across;
    slots[2 * n + k] = before[2 * n + k] + ((v * v + quadrature * quadrature) / 2 - before[2 * n + k]) * share;
    slots[3 * n + k] = o->capacitance / d * (v - v0) - (s->trapezoidal ? before[3 * n + k] : 0);
  }
}
