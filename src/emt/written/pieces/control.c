
/* A signal that the control reads. */
static double read_signal(const model *m, int which) { return sum_of(m, read_term, read_first[which], read_first[which + 1]); }
