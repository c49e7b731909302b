/* x1' = w (k (v - x1) - x2), x2' = w x1 by the trapezoidal rule, a phase-locked loop behind them. p: frequency (Hz), k,
 * bandwidth, low, high (Hz), T; s: frequency, integral (Hz), angle, x1, x2, v before */
static void run_integrator_lock(const double *p, double *s, const double *in, double *out)
{
  const double d = TURN / 2 * (p[0] + s[1]) * p[5], k = p[1];
  const double r1 = s[3] + d * (k * (in[0] + s[5] - s[3]) - s[4]), r2 = s[4] + d * s[3];
  s[3] = (r1 - d * r2) / (1 + d * k + d * d);
  s[4] = r2 + d * s[3];
  s[5] = in[0];
  s[2] = remainder(s[2] + TURN * s[0] * p[5], TURN);
  const double magnitude = hypot(s[3], s[4]);
  const double error = magnitude > 0 ? (s[4] * cos(s[2]) - s[3] * sin(s[2])) / magnitude : 0;
  const double w = TURN * p[2];
  s[1] = clamp(s[1] + w * w * p[5] * error / TURN, p[3] - p[0], p[4] - p[0]);
  s[0] = clamp(p[0] + s[1] + 1.4 * w * error / TURN, p[3], p[4]);
  out[0] = s[2] < 0 ? s[2] + TURN : s[2];
  out[1] = p[0] + s[1];
  out[2] = magnitude;
  out[3] = s[3];
  out[4] = s[4];
}
