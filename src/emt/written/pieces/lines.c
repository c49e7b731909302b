/* Lines of @ phases as travelling waves, in modes: into an end comes i = A (b), what left the other end and was
 * sent back by the resistance in the middle some time ago (H. W. Dommel, IEEE Trans. PAS-88 (1969)),
 *   i = C v + history,   history = -A sum over paths of (through f(other end) + back f(same end)),
 *   f = V v + I i        the wave that leaves an end.
 * Each line keeps, per end and mode, a ring of the waves that left it at past grid points; a delay that is no whole
 * number of steps is interpolated. */
static void line_@_history(model *m, double ahead)
{
  for (int n = 0; n < LINES_@; ++n) {
    const struct line_@ *l = &line_@[n];
    double to[2][@] = {{0}};
    for (int k = l->first_path; k < l->end_path; ++k) {
      const struct path *p = &path[k];
      const double age = p->steps - ahead;
      const double from_near = past_wave(m, p->from, 0, age), from_far = past_wave(m, p->from, 1, age);
      to[0][p->to] -= p->through * from_far + p->back * from_near;
      to[1][p->to] -= p->through * from_near + p->back * from_far;
    }
    for (int end = 0; end < 2; ++end)
      for (int k = 0; k < @; ++k) {
        double h = 0;
        for (int c = 0; c < @; ++c) h += l->arrives[k][c] * to[end][c];
        m->line_@_history[n][end][k] = h;
        m->rhs[l->node[end][k]] -= h;
      }
  }
}

static void line_@_currents(const model *m, double *now)
{
  for (int n = 0; n < LINES_@; ++n) {
    const struct line_@ *l = &line_@[n];
    for (int end = 0; end < 2; ++end)
      for (int k = 0; k < @; ++k) {
        double i = m->line_@_history[n][end][k];
        for (int c = 0; c < @; ++c) i += l->conductance[k][c] * now[l->node[end][c]];
        now[l->i[end] + k] = i;
      }
  }
}

/* The waves that leave an end. */
static void line_@_leaving(const struct line_@ *l, int end, const double *now, double wave[@])
{
  for (int k = 0; k < @; ++k) {
    wave[k] = 0;
    for (int c = 0; c < @; ++c)
      wave[k] += l->from_voltages[k][c] * now[l->node[end][c]] + l->from_currents[k][c] * now[l->i[end] + c];
  }
}

static void line_@_push(model *m, const double *now)
{
  for (int n = 0; n < LINES_@; ++n)
    for (int end = 0; end < 2; ++end) {
      double wave[@];
      line_@_leaving(&line_@[n], end, now, wave);
      for (int k = 0; k < @; ++k) {
        const int number = line_@[n].first_mode + k;
        *newest_wave(m, number, end) = wave[k] - m->less[number][end];
        m->less[number][end] = 0;
      }
    }
}

/* Waves that jump, so many steps behind the newest, from `before` to `behind`. Between grid points they are taken
 * straight, so that the grid point ahead takes so much of the jump, or that behind so much less, that its area is
 * right. Where all delays of a mode are whole steps it jumps at a grid point as it is. */
static void line_@_jump(model *m, double share, const double *before, const double *behind)
{
  for (int n = 0; n < LINES_@; ++n)
    for (int end = 0; end < 2; ++end) {
      double earlier[@], later[@];
      line_@_leaving(&line_@[n], end, before, earlier);
      line_@_leaving(&line_@[n], end, behind, later);
      for (int k = 0; k < @; ++k) {
        const int number = line_@[n].first_mode + k;
        double *newest = newest_wave(m, number, end);
        const double part = (mode[number].whole && share == 0 ? 1 : 0.5 - share) *
                            (later[k] - (share == 0 ? *newest : earlier[k]));
        if (share < 0.5)
          *newest += part;
        else
          m->less[number][end] -= part;
      }
    }
}
