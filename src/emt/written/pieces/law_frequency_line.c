/* A line of fitted modes: Yc = d + sum r/(s - p), H = e^(-s tau) sum q/(s - b); per mode and end
 *   i_near = Yc v_near - H w_far, w_far = Yc v_far + i_far (what leaves the far end),
 * each partial fraction being a state: x1 = a x0 + c (u1 + u0), or x1 = e x0 + c u1 by backward Euler. Slots: currents of
 * both ends, what leaves them, states (real and imaginary parts). Memory: what left the ends. */
struct frequency_line {
  double phases, states, length; /* of its memory of each channel */
  const double *currents, *constant, *delay, *first; /* of its modes: d, tau in steps, where Yc's and H's states begin */
  const double *a_re, *a_im, *c_re, *c_im, *e_re, *e_im, *weight;
};

static double modal(const struct frequency_line *o, const double *phases, int mode)
{
  double sum = 0;
  const int n = (int)o->phases;
  for (int k = 0; k < n; ++k) sum += o->currents[k * n + mode] * phases[k];
  return sum;
}
/* A state of one end a rule on, but for what its input adds: real and imaginary part. */
static double fraction_re(const struct frequency_line *o, const struct span *s, int k, const double *x)
{
  return s->trapezoidal ? o->a_re[k] * x[0] - o->a_im[k] * x[1] : o->e_re[k] * x[0] - o->e_im[k] * x[1];
}
static double fraction_im(const struct frequency_line *o, const struct span *s, int k, const double *x)
{
  return s->trapezoidal ? o->a_im[k] * x[0] + o->a_re[k] * x[1] : o->e_im[k] * x[0] + o->e_re[k] * x[1];
}
/* What arrives at an end, of both instants or of the later alone. */
static double arriving(const struct frequency_line *o, const struct sent *w, const struct span *s, int end, int mode)
{
  const int channel = (1 - end) * (int)o->phases + mode;
  const double later = sent_at(w, channel, s->until / STEP - o->delay[mode]);
  return s->trapezoidal ? later + sent_at(w, channel, (s->until - s->length) / STEP - o->delay[mode]) : later;
}

static void frequency_line_begin(const struct frequency_line *o, const struct law *l, const struct span *s,
                                 const double *old, double *history, double *memory)
{
  const int n = (int)o->phases, states = (int)o->states;
  const struct sent w = sent_waves(2 * n, o->length, memory);
  begin_sent(&w, s, old + l->first + 2 * n);
  for (int end = 0; end < 2; ++end) {
    double volts[CONDUCTORS], j[CONDUCTORS];
    const double *x = old + l->first + 4 * n + 2 * end * states;
    end_volts(l, end * n, n, old, volts);
    for (int m = 0; m < n; ++m) {
      const double v0 = s->trapezoidal ? modal(o, volts, m) : 0, u = arriving(o, &w, s, end, m);
      j[m] = 0;
      for (int k = (int)o->first[2 * m]; k < (int)o->first[2 * m + 1]; ++k)
        j[m] += o->weight[k] * (fraction_re(o, s, k, x + 2 * k) + o->c_re[k] * v0);
      for (int k = (int)o->first[2 * m + 1]; k < (int)o->first[2 * m + 2]; ++k)
        j[m] -= o->weight[k] * (fraction_re(o, s, k, x + 2 * k) + o->c_re[k] * u);
    }
    for (int k = 0; k < n; ++k) {
      history[end * n + k] = 0;
      for (int m = 0; m < n; ++m) history[end * n + k] += o->currents[k * n + m] * j[m];
    }
  }
}

static double advance_fractions(const struct frequency_line *o, const struct span *s, int first, int last, double input,
                                const double *before, double *now)
{
  double sum = 0;
  for (int k = first; k < last; ++k) {
    now[2 * k] = fraction_re(o, s, k, before + 2 * k) + o->c_re[k] * input;
    now[2 * k + 1] = fraction_im(o, s, k, before + 2 * k) + o->c_im[k] * input;
    sum += o->weight[k] * now[2 * k];
  }
  return sum;
}

static void frequency_line_end(const struct frequency_line *o, const struct law *l, const struct span *s,
                               const double *old, double *now, const double *history, double *memory)
{
  const int n = (int)o->phases, states = (int)o->states;
  const struct sent w = sent_waves(2 * n, o->length, memory);
  double *slots = now + l->first;
  (void)history;
  for (int end = 0; end < 2; ++end) {
    double was[CONDUCTORS], volts[CONDUCTORS];
    const double *before = old + l->first + 4 * n + 2 * end * states;
    double *x = slots + 4 * n + 2 * end * states;
    end_volts(l, end * n, n, old, was);
    end_volts(l, end * n, n, now, volts);
    for (int k = 0; k < n; ++k) slots[end * n + k] = 0;
    for (int m = 0; m < n; ++m) {
      const double v1 = modal(o, volts, m), v = s->trapezoidal ? v1 + modal(o, was, m) : v1;
      const int yc = (int)o->first[2 * m], h = (int)o->first[2 * m + 1], last = (int)o->first[2 * m + 2];
      const double forced = o->constant[m] * v1 + advance_fractions(o, s, yc, h, v, before, x);
      const double current = forced - advance_fractions(o, s, h, last, arriving(o, &w, s, end, m), before, x);
      slots[2 * n + end * n + m] = forced + current;
      for (int k = 0; k < n; ++k) slots[end * n + k] += o->currents[k * n + m] * current;
    }
  }
  end_sent(&w, s, slots + 2 * n);
}
