/* A meter: p = sum of v i over the phases, dE/dt = p; over a step it adds the mean of p at its ends (half Euler: p at
 * its end). */
struct meter {
  int phases;
};
static void meter_end(const struct meter *d, const struct law *l, const struct span *s, const double *old,
                      double *now)
{
  double power = 0;
  for (int k = 0; k < d->phases; ++k) power += law_input(l, k, now) * law_input(l, d->phases + k, now);
  now[l->first] = power;
  now[l->first + 1] = old[l->first + 1] + (s->trapezoidal ? (old[l->first] + power) / 2 : power) * s->length;
}
