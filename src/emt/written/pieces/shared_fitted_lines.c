/* What left the ends of a fitted line at past grid points, by channel, straight between them. A jump within a step is felt
 * there: the kept value before it takes so much of the jump, or that behind it so much less, that the area under the
 * straight line is that of the jump. */
struct sent { /* newest: grid index; until: where the half steps behind the last jump have come to */
  int channels, length;
  double *newest, *until, *first_behind, *less, *before, *kept;
};
static struct sent sent_waves(double channels, double length, double *memory)
{
  const int n = (int)channels;
  const struct sent w = {n, (int)length, memory, memory + 1, memory + 2, memory + 3, memory + 3 + n, memory + 3 + 2 * n};
  return w;
}
static double *sent_at_index(const struct sent *w, int channel, double index)
{
  return &w->kept[channel * w->length + (int)((long long)index & (w->length - 1))];
}
static double sent_at(const struct sent *w, int channel, double time_steps)
{
  const double clamped = time_steps < *w->newest ? time_steps : *w->newest, whole = floor(clamped), share = clamped - whole;
  const double young = *sent_at_index(w, channel, whole);
  return share == 0 ? young : young + share * (*sent_at_index(w, channel, whole + 1) - young);
}
static void begin_sent(const struct sent *w, const struct span *s, const double *values)
{
  if (s->beyond) return;
  const double from = s->until - s->length, steps = from / STEP, index = floor(steps + 0.5);
  *w->first_behind = !s->trapezoidal && fabs(from - *w->until) > 1e-6 * STEP;
  if (*w->first_behind > 0) memcpy(w->before, values, (size_t)w->channels * sizeof *values);
  if (fabs(steps - index) > 1e-6 || index < *w->newest) return;
  if (index == *w->newest && !s->trapezoidal) return; /* kept when the step began */
  *w->newest = index;
  for (int c = 0; c < w->channels; ++c) {
    *sent_at_index(w, c, index) = values[c] - w->less[c];
    w->less[c] = 0;
  }
}
static void end_sent(const struct sent *w, const struct span *s, const double *values)
{
  if (s->trapezoidal || s->beyond) return;
  *w->until = s->until;
  if (*w->first_behind == 0) return;
  *w->first_behind = 0;
  const double far = (s->until - s->length - s->grid) / STEP, share = far < 0 ? 0 : far > 1 ? 1 : far;
  const double grid = floor(s->grid / STEP + 0.5);
  for (int c = 0; c < w->channels; ++c) {
    const double part = (0.5 - share) * (values[c] - w->before[c]);
    if (share < 0.5 && grid == *w->newest) *sent_at_index(w, c, grid) += part;
    else if (share >= 0.5) w->less[c] -= part;
  }
}

enum { CONDUCTORS = 16 };
static void end_volts(const struct law *l, int first, int n, const double *values, double *volts)
{
  for (int k = 0; k < n; ++k) volts[k] = values[l->p[first + k]] - values[l->q[first + k]];
}
