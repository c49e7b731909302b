
/* A signal of the network, as it stands. */
static double read_signal(const model *m, int which)
{
  double sum = 0;
  for (int k = read_first[which]; k < read_first[which + 1]; ++k)
    sum += read_term[k].coefficient * m->value[m->which[NOW]][read_term[k].at];
  return sum;
}
