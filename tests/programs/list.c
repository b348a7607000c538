// SPDX-License-Identifier: MIT
#include "say.h"

struct node {
  struct node *next;
  int16_t key;
};
static struct node pool[6];
static struct node *first;
APART void insert(struct node *node) {
  struct node **link = &first;
  uint8_t steps = 0;
  while (*link != 0 && (*link)->key < node->key) {
    link = &(*link)->next;
    steps++;
  }
  SAY(steps);
  node->next = *link;
  *link = node;
}
APART int16_t total(const struct node *from) {
  int16_t sum = 0;
  for (const struct node *n = from; n != 0; n = n->next) {
    int16_t key = n->key;
    sum += key;
    SAY(key);
  }
  SAY(sum);
  return sum;
}
int main(void) {
  static const int16_t keys[] = {5, -8, 100, 3, 3, 42};
  for (uint8_t i = 0; i < 6; i++) {
    pool[i].key = keys[i];
    insert(&pool[i]);
    SAY(i);
    int16_t sum = total(first);
    sink = sum;
  }
  stay();
}
