static void run_gate(model *m, int gate, double time, const double *in, double *out)
{
  if (is_on(in[0]) != is_on(out[0])) fire_gate(m, gate, is_on(in[0]), time);
  out[0] = is_on(in[0]);
}
