static double clamp(double x, double low, double high) { return x < low ? low : high < x ? high : x; }
