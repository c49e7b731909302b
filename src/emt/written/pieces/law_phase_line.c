/* A line fitted in phases: i = Yc v - sum of H w, w = Yc v + i of the other end a delay ago, each pole and conductor being a
 * state: x1 = a x0 + c (u1 + u0), or x1 = e x0 + c u1 by backward Euler; what an end draws is one matrix times its states.
 * Slots: currents of both ends, what leaves them, states. Memory: what left the ends, then the states ahead. */
struct phase_line {
  double conductors, reals, own_poles, own_reals, poles, fronts, length;
  const double *a_re, *a_im, *c_re, *c_im, *e_re, *e_im, *first, *pair; /* of its poles: those of Yc, then of the fronts */
  const double *end_pole, *delay;                                       /* of its fronts */
  const double *output, *constant, *direct; /* by columns: of the states, of the voltages as fitted and behind a step */
};
static struct sent phase_waves(const struct phase_line *o, double *memory)
{
  return sent_waves(2 * o->conductors, o->length, memory);
}
static double *phase_ahead(const struct phase_line *o, double *memory, int end)
{
  const int n = 2 * (int)o->conductors;
  return memory + 3 + 2 * n + n * (int)o->length + end * (int)o->reals;
}
/* Columns times numbers, added. */
static void add_columns(const double *columns, const double *numbers, int count, int rows, double *sum)
{
  for (int c = 0; c < count; ++c)
    for (int r = 0; r < rows; ++r) sum[r] += columns[c * rows + r] * numbers[c];
}
static void advance_pole(const struct phase_line *o, const struct span *s, int pole, const double *input, const double *before,
                         double *ahead)
{
  const int n = (int)o->conductors, first = (int)o->first[pole];
  const double re = s->trapezoidal ? o->a_re[pole] : o->e_re[pole], im = s->trapezoidal ? o->a_im[pole] : o->e_im[pole];
  for (int k = first; k < first + n; ++k) {
    ahead[k] = re * before[k] + o->c_re[pole] * input[k - first];
    if (o->pair[pole] > 0) {
      ahead[k] -= im * before[n + k];
      ahead[n + k] = im * before[k] + re * before[n + k] + o->c_im[pole] * input[k - first];
    }
  }
}

static void phase_line_begin(const struct phase_line *o, const struct law *l, const struct span *s, const double *old,
                             double *history, double *memory)
{
  const int n = (int)o->conductors, reals = (int)o->reals;
  const struct sent w = phase_waves(o, memory);
  begin_sent(&w, s, old + l->first + 2 * n);
  for (int end = 0; end < 2; ++end) {
    const double *before = old + l->first + 4 * n + end * reals;
    double *ahead = phase_ahead(o, memory, end), input[CONDUCTORS] = {0};
    int pole = 0;
    if (s->trapezoidal) end_volts(l, end * n, n, old, input);
    for (; pole < (int)o->own_poles; ++pole) advance_pole(o, s, pole, input, before, ahead);
    for (int front = 0; front < (int)o->fronts; ++front) {
      for (int k = 0; k < n; ++k) {
        const int channel = (1 - end) * n + k;
        input[k] = sent_at(&w, channel, s->until / STEP - o->delay[front]);
        if (s->trapezoidal) input[k] += sent_at(&w, channel, (s->until - s->length) / STEP - o->delay[front]);
      }
      for (; pole < (int)o->end_pole[front]; ++pole) advance_pole(o, s, pole, input, before, ahead);
    }
    for (int k = 0; k < n; ++k) history[end * n + k] = 0;
    add_columns(o->output, ahead, reals, n, history + end * n);
  }
}

static void phase_line_end(const struct phase_line *o, const struct law *l, const struct span *s, const double *old,
                           double *now, const double *history, double *memory)
{
  const int n = (int)o->conductors, reals = (int)o->reals;
  const struct sent w = phase_waves(o, memory);
  double *slots = now + l->first;
  (void)old;
  for (int end = 0; end < 2; ++end) {
    double *ahead = phase_ahead(o, memory, end), volts[CONDUCTORS], *i = slots + end * n, *leaves = slots + 2 * n + end * n;
    end_volts(l, end * n, n, now, volts);
    for (int pole = 0; pole < (int)o->own_poles; ++pole)
      for (int k = 0; k < n; ++k) {
        ahead[(int)o->first[pole] + k] += o->c_re[pole] * volts[k];
        if (o->pair[pole] > 0) ahead[(int)o->first[pole] + n + k] += o->c_im[pole] * volts[k];
      }
    memcpy(slots + 4 * n + end * reals, ahead, (size_t)reals * sizeof *ahead);
    for (int k = 0; k < n; ++k) i[k] = history[end * n + k];
    add_columns(o->direct, volts, n, n, i);
    for (int k = 0; k < n; ++k) leaves[k] = i[k]; /* w = Yc v + i */
    add_columns(o->constant, volts, n, n, leaves);
    add_columns(o->output, ahead, (int)o->own_reals, n, leaves);
  }
  end_sent(&w, s, slots + 2 * n);
}
