/* @ coupled windings, some of which have taps: v = R i + d(flux)/dt, flux = L(tap) i. With d = h/2 and Z = R + L/d,
 *   i1 = Z^-1 (v1 + flux0/d [+ v0 - R i0]), flux1 = flux0 + d (v1 - R i1) [+ d (v0 - R i0)].
 * An automatic control compares the rms voltage across some of them, less the drop of a line beyond, with its target.
 * Slots: currents, fluxes, then mean square, position, time outside the band, the setting seen, time without looking.
 * Memory: the position whose conductances stand, those. */
struct tapped_@ {
  double step, lowest, highest, target, band, delay, travel, drop_ohm, drop_H, raise_lifts, measured_count;
  double has_taps[@], is_measured[@], resistance[@][@], inductance[@][@];
};
enum { SQUARE_@ = 2 * @, POSITION_@, OUTSIDE_@, SEEN_@, BLIND_@ };

/* Where it stands, or what its setting was turned to since. */
static double position_@(const struct tapped_@ *o, const double *slots, double setting)
{
  const double wanted = round(setting);
  if (setting == slots[SEEN_@]) return slots[POSITION_@];
  return wanted < o->lowest ? o->lowest : wanted > o->highest ? o->highest : wanted;
}
/* Inverts a symmetric positive definite matrix in place (Gauss, Jordan). */
static void invert_@(double *a)
{
  for (int k = 0; k < @; ++k) {
    const double pivot = 1 / a[k * @ + k];
    a[k * @ + k] = 1;
    for (int c = 0; c < @; ++c) a[k * @ + c] *= pivot;
    for (int r = 0; r < @; ++r) {
      const double factor = a[r * @ + k];
      if (r == k) continue;
      a[r * @ + k] = 0;
      for (int c = 0; c < @; ++c) a[r * @ + c] -= factor * a[k * @ + c];
    }
  }
}

static void tapped_@_begin(const struct tapped_@ *o, const struct law *l, const struct span *s, const double *old,
                           double *history, double *memory, double *conductance)
{
  const double *slots = old + l->first, position = round(position_@(o, slots, old[l->setting[0]]));
  double drive[@], *g = memory + 1;
  if (position != memory[0]) {
    memory[0] = position;
    for (int r = 0; r < @; ++r)
      for (int c = 0; c < @; ++c) {
        const double turns = (o->has_taps[r] > 0 ? 1 + o->step * position : 1) * (o->has_taps[c] > 0 ? 1 + o->step * position : 1);
        g[r * @ + c] = o->resistance[r][c] + 2 / STEP * o->inductance[r][c] * turns;
      }
    invert_@(g);
  }
  memcpy(conductance, g, @ * @ * sizeof *g);
  for (int k = 0; k < @; ++k) {
    drive[k] = slots[@ + k] * 2 / STEP;
    if (!s->trapezoidal) continue;
    drive[k] += old[l->p[k]] - old[l->q[k]];
    for (int m = 0; m < @; ++m) drive[k] -= o->resistance[k][m] * slots[m];
  }
  for (int k = 0; k < @; ++k) {
    history[k] = 0;
    for (int m = 0; m < @; ++m) history[k] += g[k * @ + m] * drive[m];
  }
}

/* What the control sees, and does, at the end of a rule. */
static void control_taps_@(const struct tapped_@ *o, const struct law *l, const struct span *s, const double *old, double *now)
{
  const double *was = old + l->first;
  double *slots = now + l->first, square = 0;
  for (int k = 0; k < @; ++k) {
    const double into = -slots[k], earlier = -was[k];
    const double drop = o->drop_ohm * into + o->drop_H * (into - earlier) / s->length;
    const double v = now[l->p[k]] - now[l->q[k]] - drop;
    if (o->is_measured[k] > 0) square += v * v / o->measured_count;
  }
  if (was[BLIND_@] <= 0) slots[SQUARE_@] += (square - slots[SQUARE_@]) * s->length / 0.05;
  slots[POSITION_@] = position_@(o, was, old[l->setting[0]]);
  slots[SEEN_@] = old[l->setting[0]];
  if (o->target > 0) {
    const double excess = sqrt(slots[SQUARE_@] > 0 ? slots[SQUARE_@] : 0) - o->target;
    slots[OUTSIDE_@] = fabs(excess) <= o->band / 2 ? 0 : slots[OUTSIDE_@] + s->length;
    if (slots[OUTSIDE_@] > 0 && slots[OUTSIDE_@] >= o->delay) {
      const double next = slots[POSITION_@] + ((excess < 0) == (o->raise_lifts > 0) ? 1 : -1);
      slots[POSITION_@] = next < o->lowest ? o->lowest : next > o->highest ? o->highest : next;
      slots[OUTSIDE_@] = o->delay - o->travel;
    }
  }
  slots[BLIND_@] = slots[POSITION_@] != was[POSITION_@] ? 1e-3 : was[BLIND_@] > s->length ? was[BLIND_@] - s->length : 0;
}

static void tapped_@_end(const struct tapped_@ *o, const struct law *l, const struct span *s, const double *old,
                         double *now, const double *history, double *memory)
{
  const double *was = old + l->first, *g = memory + 1;
  double *slots = now + l->first, v1[@];
  for (int k = 0; k < @; ++k) v1[k] = now[l->p[k]] - now[l->q[k]];
  for (int k = 0; k < @; ++k) {
    slots[k] = history[k];
    for (int m = 0; m < @; ++m) slots[k] += g[k * @ + m] * v1[m];
  }
  for (int k = 0; k < @; ++k) {
    double sum = v1[k] + (s->trapezoidal ? old[l->p[k]] - old[l->q[k]] : 0);
    for (int m = 0; m < @; ++m) sum -= o->resistance[k][m] * (slots[m] + (s->trapezoidal ? was[m] : 0));
    slots[@ + k] = was[@ + k] + STEP / 2 * sum;
  }
  for (int k = SQUARE_@; k <= BLIND_@; ++k) slots[k] = was[k];
  if (!s->beyond) control_taps_@(o, l, s, old, now);
}

static int tapped_@_jumps(const struct tapped_@ *o, const struct law *l, const double *now, const double *memory)
{
  (void)o;
  return now[l->first + POSITION_@] != memory[0];
}

/* Behind an event: what goes by leaps stands as at the second half step. */
static void tapped_@_leap(const struct law *l, const double *second, double *now)
{
  memcpy(now + l->first + SQUARE_@, second + l->first + SQUARE_@, 5 * sizeof *now);
}
