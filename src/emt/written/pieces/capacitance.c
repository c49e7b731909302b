/* Capacitances, @ coupled: i = C dv/dt. With G = 2C/h
 *   trapezoidal    i = G v - (G v' + i'),      half Euler     i = G v - G v' */
static void capacitance_@_carry(model *m, int b, const double *values, const double charging[@],
                                const struct weights *w)
{
  const struct capacitance_@ *c = &capacitance_@[b];
  for (int k = 0; k < @; ++k) {
    const double h = -w->before * values[c->i + k] - charging[k];
    m->capacitance_@_history[b][k] = h;
    m->rhs[c->p[k]] -= h;
    m->rhs[c->q[k]] += h;
  }
}

/* G v. */
static void capacitance_@_charging(const struct capacitance_@ *c, const double *values, double charging[@])
{
  double v[@];
  for (int k = 0; k < @; ++k) v[k] = values[c->p[k]] - values[c->q[k]];
  for (int k = 0; k < @; ++k) {
    charging[k] = 0;
    for (int n = 0; n < @; ++n) charging[k] += c->g[k][n] * v[n];
  }
}

static void capacitance_@_history(model *m, const double *old, const struct weights *w)
{
  ROW_BY_ROW
  for (int b = 0; b < CAPACITANCE_@; ++b) {
    double charging[@];
    capacitance_@_charging(&capacitance_@[b], old, charging);
    capacitance_@_carry(m, b, old, charging, w);
  }
}

static void capacitance_@_pass(model *m, double *now, const struct weights *w)
{
  ROW_BY_ROW
  for (int b = 0; b < CAPACITANCE_@; ++b) {
    double charging[@];
    capacitance_@_charging(&capacitance_@[b], now, charging);
    for (int k = 0; k < @; ++k) now[capacitance_@[b].i + k] = m->capacitance_@_history[b][k] + charging[k];
    capacitance_@_carry(m, b, now, charging, w);
  }
}

/* With x = -G v and h/2 x' = -i. */
static void capacitance_@_apart(model *m, const double *stands, const struct sloped slopes[2])
{
  ROW_BY_ROW
  for (int b = 0; b < CAPACITANCE_@; ++b) {
    const struct capacitance_@ *c = &capacitance_@[b];
    for (int k = 0; k < @; ++k) {
      double h = -slopes[0].weight * slopes[0].values[c->i + k] - slopes[1].weight * slopes[1].values[c->i + k];
      for (int n = 0; n < @; ++n) h -= c->g[k][n] * (stands[c->p[n]] - stands[c->q[n]]);
      m->capacitance_@_history[b][k] = h;
      m->rhs[c->p[k]] -= h;
      m->rhs[c->q[k]] += h;
    }
  }
}
