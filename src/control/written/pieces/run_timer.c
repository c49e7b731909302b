/* p: on delay, off delay, T; s: how long it has wanted, what */
static void run_timer(const double *p, double *s, const double *in, double *out)
{
  const int wants = is_on(in[0]);
  s[0] = wants == is_on(s[1]) ? s[0] + p[2] : 0;
  s[1] = wants;
  if (s[0] >= (wants ? p[0] : p[1]) - 1e-9 * p[2]) out[0] = wants;
}
