/* v = n (E(q) - u1 - u2 - R i) - A i, n being the share of cells that are not shorted: T_k du_k/dt = R_k i - u_k,
 * dq/dt = -i/C. With d = h/(2 T_k) either rule gives u_k = known + gain i. Slots: i, q, u1, u2. */
enum { CURVE = 32 };
struct battery {
  double fails, cells, felt, capacity, points; /* whether cells and added resistance are settings; R and both gains */
  double ohm[2], d[2], gain[2], charge[CURVE], volts[CURVE];
};
static double healthy(const struct battery *b, const struct law *l, const double *values)
{
  return b->fails > 0 && values[l->setting[0]] != 0 ? 1 - values[l->setting[0]] / b->cells : 1;
}
static double battery_siemens(const struct battery *b, const struct law *l, const double *values)
{
  return 1 / (healthy(b, l, values) * b->felt + (b->fails > 0 ? values[l->setting[1]] : 0));
}
static double battery_known(const struct battery *b, const struct span *s, int k, const double *before)
{
  const double u = before[2 + k];
  return (s->trapezoidal ? (1 - b->d[k]) * u + b->d[k] * b->ohm[k] * before[0] : u) / (1 + b->d[k]);
}
static double open_circuit(const struct battery *b, double q)
{
  const int n = (int)b->points;
  if (q <= b->charge[0]) return b->volts[0];
  for (int k = 1; k < n; ++k)
    if (q <= b->charge[k])
      return b->volts[k - 1] + (q - b->charge[k - 1]) / (b->charge[k] - b->charge[k - 1]) * (b->volts[k] - b->volts[k - 1]);
  return b->volts[n - 1];
}
static void battery_begin(const struct battery *b, const struct law *l, const struct span *s, const double *old,
                          double *history, double *conductance)
{
  const double *before = old + l->first;
  const double behind = open_circuit(b, before[1]) - battery_known(b, s, 0, before) - battery_known(b, s, 1, before);
  conductance[0] = battery_siemens(b, l, old);
  history[0] = -conductance[0] * healthy(b, l, old) * behind;
}
static void battery_end(const struct battery *b, const struct law *l, const struct span *s, const double *old,
                        double *now, const double *history)
{
  const double *before = old + l->first;
  double *slots = now + l->first;
  const double i = -(battery_siemens(b, l, old) * (now[l->p[0]] - now[l->q[0]]) + history[0]);
  slots[0] = i;
  for (int k = 0; k < 2; ++k) slots[2 + k] = battery_known(b, s, k, before) + b->gain[k] * i;
  slots[1] = before[1] - (s->trapezoidal ? (i + before[0]) / 2 : i) * s->length / b->capacity;
}
