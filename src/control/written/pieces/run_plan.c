/* p: how long a plan lasts without a beat, T; s: time since one, the beat, whether it has moved once */
static void run_plan(const double *p, double *s, const double *in, double *out)
{
  s[0] = in[1] != s[1] ? 0 : s[0] + p[1];
  if (in[1] != s[1]) s[2] = 1;
  s[1] = in[1];
  out[1] = is_on(s[2]) && s[0] < p[0] - 1e-9 * p[1];
  out[0] = is_on(out[1]) ? in[0] : in[2];
}
