/* Natural commutation: a_upper at -60 deg of phase a's voltage, then every 60 deg c_lower, b_upper, a_lower, c_upper,
 * b_lower. p: width of a pulse, T; s: whether it fires, then of each valve the angle since its last pulse */
static void run_firing(model *m, int gate, double time, const double *p, double *s, const double *in, double *out)
{
  static const int gate_of[6] = {0, 5, 2, 1, 4, 3};
  const double turning = TURN * most(in[1], 1e-3);
  out[0] = in[2];
  if (!is_on(in[3])) {
    for (int k = 0; k < 6; ++k) {
      if (is_on(s[0])) fire_gate(m, gate + k, 0, time);
      s[1 + k] = 1e9;
    }
    s[0] = 0;
    return;
  }
  s[0] = 1;
  for (int k = 0; k < 6; ++k) {
    s[1 + k] += turning * p[1];
    double ahead = remainder(k * (TURN / 6) - TURN / 6 + in[2] - in[0], TURN);
    if (ahead > turning * p[1] || ahead < -TURN / 6 || s[1 + k] < TURN / 2) continue;
    ahead = most(ahead, 0);
    fire_gate(m, gate + gate_of[k], 1, time + ahead / turning);
    fire_gate(m, gate + gate_of[k], 0, time + (ahead + p[0]) / turning);
    s[1 + k] = -ahead;
  }
}
