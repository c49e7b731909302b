/* A d.c. source behind its resistance: i = (v - E)/R from p to n; it gives -i. */
struct dc_source {
  double siemens;
};
static void dc_source_begin(const struct dc_source *d, const struct law *l, const struct span *s, const double *old,
                            double *history)
{
  (void)s;
  history[0] = -d->siemens * old[l->setting[0]];
}
static void dc_source_end(const struct dc_source *d, const struct law *l, const struct span *s, const double *old,
                          double *now, const double *history)
{
  (void)s;
  (void)old;
  now[l->first] = -(d->siemens * (now[l->p[0]] - now[l->q[0]]) + history[0]);
}
