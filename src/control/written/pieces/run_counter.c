/* p: from where on it begins again, 0 never; s: its input before */
static void run_counter(const double *p, double *s, const double *in, double *out)
{
  if (is_on(in[0]) && !is_on(s[0])) out[0] = p[0] > 0 && out[0] + 1 >= p[0] ? 0 : out[0] + 1;
  if (is_on(in[1])) out[0] = 0;
  s[0] = is_on(in[0]);
}
