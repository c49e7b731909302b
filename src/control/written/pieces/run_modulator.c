/* References that are held for an execution against a triangle that starts at -1 and rises; two triangles, one above
 * the other, for three levels. p: half a carrier's period, dead time, halves in an execution, whether centred; s: whether
 * it rises, then of each pair of valves 0 off, 1 low, 2 high */
static void switch_pair(model *m, int gate, const double *p, double *s, int high, double at)
{
  const double wanted = high ? 2 : 1;
  if (*s == wanted) return;
  *s = wanted;
  fire_gate(m, gate + high, 0, at);
  fire_gate(m, gate + 1 - high, 1, at + p[1]);
}

static void modulate_pair(model *m, int gate, double time, const double *p, int rising, double *s, double reference, int enabled)
{
  if (!enabled) {
    if (*s > 0) {
      fire_gate(m, gate, 0, time);
      fire_gate(m, gate + 1, 0, time);
    }
    *s = 0;
    return;
  }
  for (int half = 0; half < (int)p[2]; ++half, rising = !rising) {
    const double start = time + half * p[0], share = rising ? (reference + 1) / 2 : (1 - reference) / 2;
    switch_pair(m, gate, p, s, rising ? reference > -1 : reference >= 1, start);
    if (share > 0 && share < 1) switch_pair(m, gate, p, s, !rising, start + share * p[0]);
  }
}

static void run_modulator(model *m, int gate, double time, const double *p, double *s, int legs, int levels, const double *in, double *out)
{
  const int enabled = is_on(in[legs]), rising = is_on(s[0]);
  double shift = in[legs + 1];
  if (is_on(p[3])) {
    double low = in[0], high = in[0];
    for (int leg = 1; leg < legs; ++leg) {
      low = least(low, in[leg]);
      high = most(high, in[leg]);
    }
    shift -= (low + high) / 2;
  }
  for (int leg = 0; leg < legs; ++leg) {
    const double reference = out[leg] = in[leg] + shift;
    if (levels == 2) {
      modulate_pair(m, gate + 2 * leg, time, p, rising, s + 1 + leg, reference, enabled);
    } else {
      modulate_pair(m, gate + 4 * leg, time, p, rising, s + 1 + 2 * leg, 2 * reference - 1, enabled);
      modulate_pair(m, gate + 4 * leg + 2, time, p, rising, s + 2 + 2 * leg, 2 * reference + 1, enabled);
    }
  }
  s[0] = ((int)p[2] % 2 == 0) == rising;
}
