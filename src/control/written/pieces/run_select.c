static void run_select(const double *in, double *out) { out[0] = is_on(in[0]) ? in[1] : in[2]; }
