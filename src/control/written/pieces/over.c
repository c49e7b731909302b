/* 0 over nothing. */
static double over(double a, double b) { return b == 0 ? 0 : a / b; }
