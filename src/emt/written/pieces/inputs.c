/* A signal, as it stands. */
static double sum_of(const model *m, const struct term *terms, int first, int end)
{
  const double *now = m->value[m->which[NOW]];
  double sum = 0;
  for (int k = first; k < end; ++k) sum += terms[k].coefficient * now[terms[k].at];
  return sum;
}

#if INPUTS
/* A setting, in all instants that are kept. */
static void turn(model *m, const struct input *what, double value)
{
  if (value < what->least) value = what->least;
  if (value > what->most) value = what->most;
  for (int k = 0; k < 7; ++k) m->value[k][what->at] = value;
  if (!what->smooth) m->restart = 1;
}
#endif
