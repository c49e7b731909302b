static void run_from_alpha_beta(const double *in, double *out)
{
  out[0] = in[0];
  out[1] = (-in[0] + sqrt(3.0) * in[1]) / 2;
  out[2] = (-in[0] - sqrt(3.0) * in[1]) / 2;
}
