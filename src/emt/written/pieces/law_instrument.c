/* An instrument transformer: it reads a primary quantity u and does not load it,
 *   dx/dt = A x + b u + e m(x_k) + f d(u - m)/dt,   m(x) = bend (0.85 |x/knee| + 0.15 |x/knee|^14) sign x
 * where m is the magnetising current over flux linkage. With d = h/2 and M = (1 - d A)^-1
 *   x1 = M [x0 + d b u1 + d e m1 + f (u1 - m1 - u0 + m0) (+ d (A x0 + b u0 + e m0), trapezoidal)],
 * one equation in x_k, by Newton's method between bounds. Values of the phases stand side by side, four to a
 * number: output, states, u, m. */
enum { PHASES = 4, MOST_STATES = 5 };
struct instrument {
  int states, phases, flux;
  double knee, per_knee, bend, out_u, out_m;
  double a[MOST_STATES][MOST_STATES], b[MOST_STATES], e[MOST_STATES], f[MOST_STATES], out[MOST_STATES];
  double inverse[MOST_STATES][MOST_STATES], driven[MOST_STATES];
};
/* Of all phases; far beyond the knee straight on. */
static void magnetize(const struct instrument *d, const double flux[PHASES], double m[PHASES])
{
  for (int p = 0; p < PHASES; ++p) {
    const double x = fabs(flux[p]) * d->per_knee, y = x < 3 ? x : 3, y2 = y * y, y4 = y2 * y2, y8 = y4 * y4;
    const double power = y8 * y4 * y2 * (1 + 14.0 / 3 * (x - y));
    m[p] = copysign(d->bend * (0.85 * x + 0.15 * power), flux[p]);
  }
}

static double magnetizing_slope(const struct instrument *d, double flux)
{
  const double y = fabs(flux) * d->per_knee, x = y < 3 ? y : 3, x2 = x * x, x4 = x2 * x2, x8 = x4 * x4;
  return d->bend * d->per_knee * (0.85 + 0.15 * 14 * x8 * x4 * x);
}

/* x = fixed + driven m(x) of all phases, from a guess in x: until none moves any more. */
static void find_flux(const struct instrument *d, const double fixed[PHASES], double x[PHASES])
{
  const double driven = d->driven[d->flux];
  double low[PHASES] = {-1e12, -1e12, -1e12, -1e12}, high[PHASES] = {1e12, 1e12, 1e12, 1e12};
  for (int round = 0; round < 40; ++round) {
    double m[PHASES], newton[PHASES], moves[PHASES], most = 0;
    magnetize(d, x, m);
    for (int p = 0; p < PHASES; ++p) {
      const double excess = x[p] - fixed[p] - driven * m[p];
      high[p] = excess > 0 ? x[p] : high[p];
      low[p] = excess > 0 ? low[p] : x[p];
      newton[p] = x[p] - excess / (1 - driven * magnetizing_slope(d, x[p]));
      moves[p] = fabs(newton[p] - x[p]);
    }
    for (int p = 0; p < PHASES; ++p) most = moves[p] > most ? moves[p] : most;
    for (int p = 0; p < PHASES; ++p) {
      const int inside = newton[p] > low[p] && newton[p] < high[p];
      x[p] = most <= 1e-6 * d->knee || moves[p] <= 1e-6 * d->knee || inside ? newton[p] : (low[p] + high[p]) / 2;
    }
    if (most <= 1e-6 * d->knee) return;
  }
}

static void instrument_end(const struct instrument *d, const struct law *l, const struct span *s, const double *old,
                           double *now)
{
  const int n = d->states;
  const double h = STEP / 2, *x0 = old + l->first + PHASES, *u0 = x0 + n * PHASES, *m0 = u0 + PHASES;
  double *out = now + l->first, *x1 = out + PHASES, *u1 = x1 + n * PHASES, *m1 = u1 + PHASES;
  double right[MOST_STATES][PHASES], fixed[MOST_STATES][PHASES], flux[PHASES], u[PHASES] = {0};
  for (int p = 0; p < d->phases; ++p) u[p] = law_input(l, p, now);
  for (int k = 0; k < n; ++k) {
    for (int p = 0; p < PHASES; ++p)
      right[k][p] = x0[k * PHASES + p] + h * d->b[k] * u[p] + d->f[k] * (u[p] - u0[p] + m0[p]);
    if (!s->trapezoidal) continue;
    double slope[PHASES];
    for (int p = 0; p < PHASES; ++p) slope[p] = d->b[k] * u0[p] + d->e[k] * m0[p];
    for (int c = 0; c < n; ++c)
      for (int p = 0; p < PHASES; ++p) slope[p] += d->a[k][c] * x0[c * PHASES + p];
    for (int p = 0; p < PHASES; ++p) right[k][p] += h * slope[p];
  }
  for (int k = 0; k < n; ++k) {
    for (int p = 0; p < PHASES; ++p) fixed[k][p] = 0;
    for (int c = 0; c < n; ++c)
      for (int p = 0; p < PHASES; ++p) fixed[k][p] += d->inverse[k][c] * right[c][p];
  }
  for (int p = 0; p < PHASES; ++p) flux[p] = fixed[d->flux][p] + d->driven[d->flux] * m0[p];
  find_flux(d, fixed[d->flux], flux);
  double m[PHASES], sum[PHASES];
  magnetize(d, flux, m);
  for (int p = 0; p < PHASES; ++p) sum[p] = d->out_u * u[p] + d->out_m * m[p];
  for (int k = 0; k < n; ++k)
    for (int p = 0; p < PHASES; ++p) {
      const double x = fixed[k][p] + d->driven[k] * m[p];
      sum[p] += d->out[k] * x;
      x1[k * PHASES + p] = x;
    }
  for (int p = 0; p < PHASES; ++p) {
    out[p] = sum[p];
    u1[p] = u[p];
    m1[p] = m[p];
  }
}
