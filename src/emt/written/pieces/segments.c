/* Characteristics of straight pieces; on one between low and high i = offset + slope x.
 *   resistive   x = v                                  G = slope,          history = offset
 *   inductive   dx/dt = v; x = x' + h/2 (v + v')       G = slope h/2,      history = offset + slope (x' + h/2 v')
 *               half Euler x = x' + h/2 v              the same G,         history = offset + slope x'
 * Leaving a piece is a discontinuity. */
static double segment_siemens(const model *m, int k)
{
  const double slope = straight[m->straight_of[k]].slope;
  return segment[k].inductive ? slope * (STEP / 2) : slope;
}

static void segments_history(model *m, const struct weights *rule, const double *old, const double *slopes)
{
  for (int k = 0; k < SEGMENTS; ++k) {
    const struct segment *s = &segment[k];
    const struct straight *on = &straight[m->straight_of[k]];
    double carried = 0;
    if (s->inductive) {
      carried = old[s->state];
      if (rule->voltage > 0) carried += STEP / 2 * (slopes[s->p] - slopes[s->q]);
    }
    m->segment_carried[k] = carried;
    m->segment_history[k] = on->offset + (s->inductive ? on->slope * carried : 0);
    m->rhs[s->p] -= m->segment_history[k];
    m->rhs[s->q] += m->segment_history[k];
  }
}

static void segments_currents(const model *m, double *now)
{
  for (int k = 0; k < SEGMENTS; ++k) {
    const struct segment *s = &segment[k];
    const double v = now[s->p] - now[s->q];
    now[s->current] = m->segment_history[k] + segment_siemens(m, k) * v;
    now[s->state] = s->inductive ? m->segment_carried[k] + STEP / 2 * v : v;
  }
}

/* Adds h/2 of the weighed slopes to the states in `into`. */
static void bend_segments(double first, const double *by_first, double second, const double *by_second, double *into)
{
  for (int k = 0; k < SEGMENTS; ++k) {
    const struct segment *s = &segment[k];
    if (!s->inductive) continue;
    into[s->state] += first * (STEP / 2) * (by_first[s->p] - by_first[s->q]);
    into[s->state] += second * (STEP / 2) * (by_second[s->p] - by_second[s->q]);
  }
}

/* The share of the way from `before` to `after` at which it leaves its piece; above 1 when it does not. */
static double segment_leaves(const model *m, int k, const double *before, const double *after)
{
  const struct straight *on = &straight[m->straight_of[k]];
  const double x = after[segment[k].state], from = before[segment[k].state];
  if (x <= on->high + segment[k].slack && x >= on->low - segment[k].slack) return 2;
  if (x == from) return 0;
  const double share = ((x > on->high ? on->high : on->low) - from) / (x - from);
  return share < 0 ? 0 : share > 1 ? 1 : share;
}

/* To the neighbouring piece in the direction of `after`. */
static void move_segment(model *m, int k, const double *after, double time)
{
  const int on = m->straight_of[k];
  const int next = on + (after[segment[k].state] > straight[on].high ? 1 : -1);
  m->moved_at[k] = time;
  if (next >= segment[k].first && next < segment[k].end) m->straight_of[k] = (short)next;
  adjust(m, segment[k].number, segment_siemens(m, k));
}

static void place_segments(model *m, const double *values)
{
  for (int k = 0; k < SEGMENTS; ++k) {
    int on = segment[k].first;
    while (on + 1 < segment[k].end && values[segment[k].state] > straight[on].high) ++on;
    m->straight_of[k] = (short)on;
    m->moved_at[k] = -NEVER;
  }
}
