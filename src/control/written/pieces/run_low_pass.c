/* y += (1 - exp(-T/time)) (u - y) */
static void run_low_pass(const double *p, const double *in, double *out) { out[0] += p[0] * (in[0] - out[0]); }
