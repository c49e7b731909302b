/* p = sum v i, q = ((vb - vc) ia + (vc - va) ib + (va - vb) ic)/sqrt 3 */
static void run_power(const double *in, double *out)
{
  out[0] = in[0] * in[3] + in[1] * in[4] + in[2] * in[5];
  out[1] = -((in[2] - in[1]) * in[3] + (in[0] - in[2]) * in[4] + (in[1] - in[0]) * in[5]) / sqrt(3.0);
}
