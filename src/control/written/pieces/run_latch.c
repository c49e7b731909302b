static void run_latch(const double *in, double *out)
{
  if (is_on(in[0])) out[0] = 1;
  if (is_on(in[1])) out[0] = 0;
}
