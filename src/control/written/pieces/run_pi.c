/* y = P u + I + D (u - u')/T between the limits, I += K T u unless that drives y further beyond one.
 * p: P, K, D, low, high, start, T; s: I, u' */
static void run_pi(const double *p, double *s, const double *in, double *out)
{
  if (is_on(in[1])) {
    s[0] = p[5];
    s[1] = in[0];
    out[0] = clamp(p[5], p[3], p[4]);
    return;
  }
  const double moved = p[1] * p[6] * in[0];
  const double wanted = p[0] * in[0] + s[0] + moved + p[2] * (in[0] - s[1]) / p[6];
  out[0] = clamp(wanted, p[3], p[4]);
  if (!((wanted > p[4] && moved > 0) || (wanted < p[3] && moved < 0))) s[0] += moved;
  s[1] = in[0];
}
