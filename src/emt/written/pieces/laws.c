/* Parts with equations of their own: to the network n conductances, which stand in the matrix, and history currents
 * into their ends. */
#if LAW_INPUTS
static double law_input(const struct law *l, int which, const double *values)
{
  double sum = 0;
  for (int k = l->input_first[which]; k < l->input_first[which + 1]; ++k)
    sum += l->input[k].coefficient * values[l->input[k].at];
  return sum;
}
#endif

#if LAWS_THAT_ACT
static void enter_law(model *m, const struct law *l, const double *history)
{
  for (int k = 0; k < l->ends; ++k) {
    m->rhs[l->p[k]] -= history[k];
    m->rhs[l->q[k]] += history[k];
  }
}

static void write_currents(const struct law *l, double *now, const double *history)
{
  for (int k = 0; l->currents >= 0 && k < l->ends; ++k) {
    double i = history[k];
    for (int n = 0; n < l->ends; ++n) i += l->g[k * l->ends + n] * (now[l->p[n]] - now[l->q[n]]);
    now[l->currents + k] = i;
  }
}
#endif
#if LAWS_THAT_ACT && LAWS_THAT_VARY
static void vary_law(model *m, const struct law *l, const double *conductance)
{
#if ADJUSTABLES
  for (int k = 0; l->number >= 0 && k < l->ends * l->ends; ++k) adjust(m, l->number + k, conductance[k]);
#else
  (void)m;
  (void)l;
  (void)conductance;
#endif
}
#endif
