/* Perturb and observe. p: step, low, high, start; s: wanted voltage, power before, direction */
static void run_tracker(const double *p, double *s, const double *in, double *out)
{
  const double power = in[0] * in[1];
  if (!is_on(in[2])) {
    s[0] = clamp(p[3], p[1], p[2]);
  } else {
    if (power < s[1]) s[2] = -s[2];
    s[0] = clamp(s[0] + s[2] * p[0], p[1], p[2]);
  }
  s[1] = power;
  out[0] = s[0];
  out[1] = power;
}
