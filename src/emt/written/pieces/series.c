/* Series branches, @ coupled: v = R i + L di/dt + u, du/dt = S i. With Z = R + 2L/h + hS/2, G = Z^-1 and
 * K = G (2L/h - R - hS/2), primes marking the instant before,
 *   trapezoidal    i = G v + (G v' + K i' - 2 G u'),     u = u' + hS/2 (i + i')
 *   half Euler     i = G v + ((K + 1)/2 i' - G u'),      u = u' + hS/2 i
 * G v stands in the nodal matrix, the rest is the history current. */
/* What the solution to come, by a rule `w`, takes from the values at hand; `v` along the branches. */
static void series_@_carry(model *m, int b, const double *values, const double v[@], const struct weights *w)
{
  const struct series_@ *s = &series_@[b];
  double drive[@];
  for (int k = 0; k < @; ++k) drive[k] = w->voltage * v[k];
  if (s->u >= 0)
    for (int k = 0; k < @; ++k) {
      drive[k] -= w->charge * values[s->u + k];
      m->series_@_carried[b][k] = values[s->u + k] + w->before * s->e[k] * values[s->i + k];
    }
  for (int k = 0; k < @; ++k) {
    double h = 0;
    for (int n = 0; n < @; ++n) h += s->k[k][n] * values[s->i + n];
    h = w->kept * h + w->own * values[s->i + k];
    for (int n = 0; n < @; ++n) h += s->g[k][n] * drive[n];
    m->series_@_history[b][k] = h;
    m->rhs[s->p[k]] -= h;
    m->rhs[s->q[k]] += h;
  }
}

static void series_@_history(model *m, const double *old, const struct weights *w)
{
  ROW_BY_ROW
  for (int b = 0; b < SERIES_@; ++b) {
    double v[@];
    for (int k = 0; k < @; ++k) v[k] = old[series_@[b].p[k]] - old[series_@[b].q[k]];
    series_@_carry(m, b, old, v, w);
  }
}

/* The currents of a solution, and what the one after it takes from it. */
static void series_@_pass(model *m, double *now, const struct weights *w)
{
  ROW_BY_ROW
  for (int b = 0; b < SERIES_@; ++b) {
    const struct series_@ *s = &series_@[b];
    double v[@];
    for (int k = 0; k < @; ++k) v[k] = now[s->p[k]] - now[s->q[k]];
    for (int k = 0; k < @; ++k) {
      double i = m->series_@_history[b][k];
      for (int n = 0; n < @; ++n) i += s->g[k][n] * v[n];
      now[s->i + k] = i;
      if (s->u >= 0) now[s->u + k] = m->series_@_carried[b][k] + s->e[k] * i;
    }
    series_@_carry(m, b, now, v, w);
  }
}

/* The same from states in `stands` and slopes elsewhere, so weighed: x + weighed h/2 x' with
 * x = (K + 1)/2 i - G u and h/2 x' = G (v - u) + (K - 1)/2 i; what u carries on alike. */
static void series_@_apart(model *m, const double *stands, const struct sloped slopes[2])
{
  ROW_BY_ROW
  for (int b = 0; b < SERIES_@; ++b) {
    const struct series_@ *s = &series_@[b];
    double both[@], own[@], driven[@];
    for (int k = 0; k < @; ++k) {
      both[k] = own[k] = stands[s->i + k] / 2;
      driven[k] = s->u >= 0 ? -stands[s->u + k] : 0;
      if (s->u >= 0) m->series_@_carried[b][k] = stands[s->u + k];
    }
    for (int t = 0; t < 2; ++t) {
      const double weight = slopes[t].weight, *values = slopes[t].values;
      for (int k = 0; k < @; ++k) {
        const double half = weight * values[s->i + k] / 2;
        both[k] += half;
        own[k] -= half;
        driven[k] += weight * (values[s->p[k]] - values[s->q[k]]);
        if (s->u >= 0) {
          driven[k] -= weight * values[s->u + k];
          m->series_@_carried[b][k] += weight * s->e[k] * values[s->i + k];
        }
      }
    }
    for (int k = 0; k < @; ++k) {
      double h = own[k];
      for (int n = 0; n < @; ++n) h += s->k[k][n] * both[n] + s->g[k][n] * driven[n];
      m->series_@_history[b][k] = h;
      m->rhs[s->p[k]] -= h;
      m->rhs[s->q[k]] += h;
    }
  }
}
