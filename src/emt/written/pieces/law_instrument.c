/* An instrument transformer: it reads a primary quantity u and does not load it,
 *   dx/dt = A x + b u + e m(x_k) + f d(u - m)/dt,   m(x) = bend (0.85 |x/knee| + 0.15 |x/knee|^14) sign x
 * where m is the magnetising current over flux linkage. With d = h/2 and M = (1 - d A)^-1
 *   x1 = M [x0 + d b u1 + d e m1 + f (u1 - m1 - u0 + m0) (+ d (A x0 + b u0 + e m0), trapezoidal)],
 * one equation in x_k, by Newton's method between bounds. Values of the phases stand side by side, four to a
 * number: output, states, u, m. Here of @ states. */
struct instrument_@ {
  int phases, flux;
  double knee, per_knee, bend, out_u, out_m;
  double a[@][@], b[@], e[@], f[@], out[@];
  double inverse[@][@], driven[@];
};
/* Of all phases; far beyond the knee straight on. */
static void magnetize_@(const struct instrument_@ *d, const double flux[PHASES], double m[PHASES])
{
  for (int p = 0; p < PHASES; ++p) {
    const double x = fabs(flux[p]) * d->per_knee, y = x < 3 ? x : 3, y2 = y * y, y4 = y2 * y2, y8 = y4 * y4;
    const double power = y8 * y4 * y2 * (1 + 14.0 / 3 * (x - y));
    m[p] = copysign(d->bend * (0.85 * x + 0.15 * power), flux[p]);
  }
}

static double magnetizing_slope_@(const struct instrument_@ *d, double flux)
{
  const double y = fabs(flux) * d->per_knee, x = y < 3 ? y : 3, x2 = x * x, x4 = x2 * x2, x8 = x4 * x4;
  return d->bend * d->per_knee * (0.85 + 0.15 * 14 * x8 * x4 * x);
}

/* x = fixed + driven m(x) of all phases, from a guess in x: until none moves any more. */
static void find_flux_@(const struct instrument_@ *d, const double fixed[PHASES], double x[PHASES])
{
  const double driven = d->driven[d->flux];
  double low[PHASES] = {-1e12, -1e12, -1e12, -1e12}, high[PHASES] = {1e12, 1e12, 1e12, 1e12};
  for (int round = 0; round < 40; ++round) {
    double m[PHASES], newton[PHASES], moves[PHASES], most = 0;
    magnetize_@(d, x, m);
    for (int p = 0; p < PHASES; ++p) {
      const double excess = x[p] - fixed[p] - driven * m[p];
      high[p] = excess > 0 ? x[p] : high[p];
      low[p] = excess > 0 ? low[p] : x[p];
      newton[p] = x[p] - excess / (1 - driven * magnetizing_slope_@(d, x[p]));
      moves[p] = fabs(newton[p] - x[p]);
    }
    for (int p = 0; p < PHASES; ++p) most = moves[p] > most ? moves[p] : most;
    if (most <= 1e-6 * d->knee) {
      for (int p = 0; p < PHASES; ++p) x[p] = newton[p];
      return;
    }
    for (int p = 0; p < PHASES; ++p) {
      const int inside = newton[p] > low[p] && newton[p] < high[p];
      x[p] = moves[p] <= 1e-6 * d->knee || inside ? newton[p] : (low[p] + high[p]) / 2;
    }
  }
}

static void instrument_@_end(const struct instrument_@ *d, const struct law *l, const struct span *s,
                             const double *old, double *now)
{
  const double h = STEP / 2, *x0 = old + l->first + PHASES, *u0 = x0 + @ * PHASES, *m0 = u0 + PHASES;
  double *out = now + l->first, *x1 = out + PHASES, *u1 = x1 + @ * PHASES, *m1 = u1 + PHASES;
  double right[@][PHASES], fixed[@][PHASES], flux[PHASES], u[PHASES] = {0};
  for (int p = 0; p < d->phases; ++p) u[p] = law_input(l, p, now);
  for (int k = 0; k < @; ++k) {
    for (int p = 0; p < PHASES; ++p)
      right[k][p] = x0[k * PHASES + p] + h * d->b[k] * u[p] + d->f[k] * (u[p] - u0[p] + m0[p]);
    if (!s->trapezoidal) continue;
    double slope[PHASES];
    for (int p = 0; p < PHASES; ++p) slope[p] = d->b[k] * u0[p] + d->e[k] * m0[p];
    for (int c = 0; c < @; ++c)
      for (int p = 0; p < PHASES; ++p) slope[p] += d->a[k][c] * x0[c * PHASES + p];
    for (int p = 0; p < PHASES; ++p) right[k][p] += h * slope[p];
  }
  for (int k = 0; k < @; ++k) {
    for (int p = 0; p < PHASES; ++p) fixed[k][p] = 0;
    for (int c = 0; c < @; ++c)
      for (int p = 0; p < PHASES; ++p) fixed[k][p] += d->inverse[k][c] * right[c][p];
  }
  for (int p = 0; p < PHASES; ++p) flux[p] = fixed[d->flux][p] + d->driven[d->flux] * m0[p];
  find_flux_@(d, fixed[d->flux], flux);
  double m[PHASES], sum[PHASES];
  magnetize_@(d, flux, m);
  for (int p = 0; p < PHASES; ++p) sum[p] = d->out_u * u[p] + d->out_m * m[p];
  for (int k = 0; k < @; ++k)
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
