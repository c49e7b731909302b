/* Shows what it drives the network with. */
static void run_passing(const double *in, double *out) { out[0] = in[0]; }
