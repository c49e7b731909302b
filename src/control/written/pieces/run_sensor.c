/* y = gain u + offset + noise N(0, 1), within the range, in steps of the resolution. p: gain, offset, noise,
 * frozen, dead, low, high, resolution; s: of the random numbers x' = 48271 x mod (2^31 - 1), Box and Muller */
static double drawn(double *s) { return s[0] = (double)(48271ull * (unsigned long long)s[0] % 2147483647ull); }

static void run_sensor(const double *p, double *s, const double *in, double *out)
{
  if (is_on(p[3])) return;
  double y = p[1] + (is_on(p[4]) ? 0 : p[0] * in[0]);
  if (p[2] > 0) {
    const double u = (drawn(s) + 1) / 2147483648.0, v = drawn(s) / 2147483646.0;
    y += p[2] * (sqrt(-2 * log(u)) * cos(TURN * v));
  }
  y = clamp(y, p[5], most(p[5], p[6]));
  out[0] = p[7] > 0 ? round(y / p[7]) * p[7] : y;
}
