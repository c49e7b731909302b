/* q over the magnitude drives the frequency by 2 z w and w^2, the angle is its integral. p: frequency, bandwidth (Hz),
 * damping, low, high (Hz), T; s: angle, integral (Hz), frequency, whether it has begun */
static void run_phase_lock(const double *p, double *s, const double *in, double *out)
{
  double dq0[3];
  if (!is_on(s[3])) { /* from the voltages as they stand */
    to_dq(in, 0, dq0);
    s[0] = atan2(dq0[1], dq0[0]);
    s[3] = 1;
  } else {
    s[0] += TURN * s[2] * p[5];
  }
  s[0] = remainder(s[0], TURN);
  to_dq(in, s[0], dq0);
  const double magnitude = hypot(dq0[0], dq0[1]), error = magnitude > 0 ? dq0[1] / magnitude : 0;
  const double w = TURN * p[1];
  s[1] += w * w * p[5] * error / TURN;
  s[1] = clamp(s[1], p[3] - p[0], p[4] - p[0]);
  s[2] = clamp(p[0] + s[1] + 2 * p[2] * w * error / TURN, p[3], p[4]);
  out[0] = s[0] < 0 ? s[0] + TURN : s[0];
  out[1] = p[0] + s[1];
  out[2] = dq0[0];
  out[3] = dq0[1];
}
