/* Prints the firing schedule for the person at the kiln. */
#ifndef PLAN_H
#define PLAN_H

void plan_print(void);

#endif
