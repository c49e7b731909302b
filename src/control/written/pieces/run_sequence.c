/* p: T, then of each step the state that it leaves (-1 any), the one it leads to, and how long its condition must hold;
 * s: the state, then how long each has held; what holds comes in */
static void give_sequence(const double *s, int states, double *out)
{
  out[0] = s[0];
  for (int k = 0; k < states; ++k) out[k + 1] = k == (int)s[0];
}

static void run_sequence(const double *p, double *s, int steps, const double *holds)
{
  for (int k = 0; k < steps; ++k) {
    const double *step = p + 1 + 3 * k;
    const int stands = step[0] < 0 ? s[0] != step[1] : s[0] == step[0];
    s[1 + k] = stands && is_on(holds[k]) ? s[1 + k] + p[0] : 0;
    if (!(stands && is_on(holds[k])) || s[1 + k] < step[2] + p[0] * (1 - 1e-9)) continue;
    s[0] = step[1];
    for (int other = 0; other < steps; ++other) s[1 + other] = 0;
    return;
  }
}
