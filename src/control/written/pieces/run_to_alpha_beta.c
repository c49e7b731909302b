/* Fixed components of three phases, amplitudes kept (Clarke). */
static void run_to_alpha_beta(const double *in, double *out)
{
  out[0] = (2 * in[0] - in[1] - in[2]) / 3;
  out[1] = (in[1] - in[2]) / sqrt(3.0);
  out[2] = (in[0] + in[1] + in[2]) / 3;
}
