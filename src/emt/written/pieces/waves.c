static double *newest_wave(model *m, int number, int end)
{
  const struct mode *o = &mode[number];
  return &m->ring[o->ring + end * o->length + (int)(m->newest & (unsigned)(o->length - 1))];
}

/* So many steps before the newest; ages below zero (half steps behind a discontinuity on the shortest lines)
 * extrapolate. */
static double past_wave(const model *m, int number, int end, double age)
{
  const int whole = age > 0 ? (int)age : 0, mask = mode[number].length - 1;
  const double fraction = age - whole;
  const double *ring = m->ring + mode[number].ring + end * mode[number].length;
  const int at = ((int)(m->newest & (unsigned)mask) - whole) & mask;
  return fraction == 0 ? ring[at] : ring[at] + fraction * (ring[(at - 1) & mask] - ring[at]);
}
