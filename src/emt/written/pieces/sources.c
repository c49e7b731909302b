/* Voltages of stiff sources: e(t) = E m(t) sum over k of s_k cos(k theta(t) + a_k), with
 * theta(t) = a(t) + 2 pi integral of f(t) dt + the angle of the phase. m, a and f are straight between given
 * points; up to a corner that was not passed the pieces before it hold, also for instants behind it. */
static double along(const struct point *points, int count, double x, double piece)
{
  int k = 0;
  while (k + 1 < count && points[k + 1].x <= piece) ++k;
  if (piece < points[k].x || k + 1 == count) return points[k].y;
  return points[k].y + (points[k + 1].y - points[k].y) * (x - points[k].x) / (points[k + 1].x - points[k].x);
}

static double coming_corner(const model *m)
{
  return m->corners_passed < CORNERS ? corner[m->corners_passed] : NEVER;
}

static void pass_corners(model *m, double until)
{
  while (coming_corner(m) <= until) ++m->corners_passed;
}

/* The instant whose pieces hold at `time`. */
static double piece_of(const model *m, double time)
{
  double piece = time;
  if (m->corners_passed > 0 && corner[m->corners_passed - 1] > piece) piece = corner[m->corners_passed - 1];
  if (m->corners_passed < CORNERS && corner[m->corners_passed] <= piece)
    piece = nextafter(corner[m->corners_passed], -1.0);
  return piece;
}

static void impose_sources(const model *m, double time, double *now)
{
  const double piece = piece_of(m, time);
  for (int s = 0; s < WAVEFORMS; ++s) {
    const struct waveform *w = &waveform[s];
    double theta = w->angle, level = w->amplitude;
    if (w->turns > 0) theta += along(w->turn, w->turns, time, piece);
    if (w->magnitudes > 0) level *= along(w->magnitude, w->magnitudes, time, piece);
    if (w->pieces > 0) {
      int k = 0;
      while (k + 1 < w->pieces && w->piece[k + 1].start <= piece) ++k;
      const double since = time - w->piece[k].start;
      const double slope = piece < w->piece[k].start ? 0 : w->piece[k].slope;
      theta += w->piece[k].turn + TURN * since * (w->piece[k].hertz + slope * since / 2);
    } else {
      theta += w->omega * time;
    }
    if (w->harmonics == 0) {
      const double c = level * cos(theta), d = level * sin(theta);
      for (int k = w->first; k < w->end; ++k) now[known[k].at] = c * known[k].cosine - d * known[k].sine;
      continue;
    }
    for (int k = w->first; k < w->end; ++k) {
      double sum = cos(theta + known[k].angle);
      for (int n = 0; n < w->harmonics; ++n)
        sum += w->harmonic[n].share * cos(w->harmonic[n].order * (theta + known[k].angle) + w->harmonic[n].angle);
      now[known[k].at] = level * sum;
    }
  }
#if TOLD
  for (int k = 0; k < TOLD; ++k) now[told[k].at] = now[told[k].setting];
#endif
}
