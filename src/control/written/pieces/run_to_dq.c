static void run_to_dq(const double *in, double *out) { to_dq(in, in[3], out); }
