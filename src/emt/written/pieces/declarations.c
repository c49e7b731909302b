
/* At t = 0. */
void NAME_start(NAME_model *model);
/* By one step; 0, or 1 once a voltage is not finite: it stays there. Allocates nothing; its work is bounded. */
int NAME_step(NAME_model *model);
/* Of the values that can be read now, s. */
double NAME_time(const NAME_model *model);
/* SI units, kept within bounds, from the next step on. 1: no such input or no number, 2: interlocked. */
int NAME_set(NAME_model *model, int input, double value);
/* A gate comes on or goes off at an instant (s), the edges of one in the order of their times. 1: no such gate or
 * no number, 2: too many edges wait. */
int NAME_fire(NAME_model *model, int gate, int on, double at_s);
/* SI units; 0 for no such output. */
double NAME_get(const NAME_model *model, int output);

