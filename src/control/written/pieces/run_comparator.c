/* p: on above, off below */
static void run_comparator(const double *p, const double *in, double *out)
{
  out[0] = in[0] > p[0] ? 1 : in[0] < p[1] ? 0 : out[0];
}
