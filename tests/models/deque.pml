/* The owner of a deque and its thieves: each task is taken once. crew/internal/tasks/deque.hpp
   The ring has room for two tasks, so that places are used again while a thief looks at them. */
#ifndef THIEVES
#define THIEVES 2
#endif
#define TASKS 4
#define ROOM 2
#define WANTED 1
#define PROCESSES 1
#define VARIABLES 3
#define SPLIT 0
#define SLOT(i) (1 + (i) % ROOM)
#include "memory.pml"

int top;
byte taken[TASKS];
bool over;
byte thieves_left = THIEVES;

inline take(task) {
  taken[task]++;
  assert(taken[task] == 1)
}

proctype owner() {
  int bottom, own_split, seen, last, next;
  int own[ROOM];
  bool got, room;
  do
  :: next < TASKS ->  /* push */
     room = true;
     room = (bottom - top < ROOM); /*! crew/internal/tasks/deque.hpp: full_at_ = top + mask_ + 1; */
     if
     :: !room -> skip
     :: room ->
        own[bottom % ROOM] = next;
        STORE(0, SLOT(bottom), next);
        bottom++;
        next++;
        if
        :: seen = top;
           if
           :: own_split - seen < WANTED ->
              last = (bottom - seen < WANTED -> bottom : seen + WANTED);
              if
              :: last > own_split -> own_split = last; STORE(0, SPLIT, last)
              :: else -> skip
              fi
           :: else -> skip
           fi
        :: own_split = bottom; STORE(0, SPLIT, bottom)  /* push_public */
        fi
     fi
  :: bottom != own_split ->  /* pop, private */
     bottom--;
     take(own[bottom % ROOM])
  :: bottom == own_split ->  /* pop_public */
     if
     :: top >= own_split ->
        if
        :: next == TASKS -> break
        :: else -> skip
        fi
     :: else ->
        last = own_split - 1;
        STORE(0, SPLIT, last);
        FENCE(0); /*! crew/internal/tasks/deque.hpp: split_.store(last, std::memory_order_seq_cst); */
        seen = top;
        got = true;
        if
        :: seen < last -> own_split = last; bottom = last
        :: else ->
           atomic {
             FENCE(0);
             got = (seen <= last);
             got = (seen <= last && top == seen); /*! crew/internal/tasks/deque.hpp: if (top > last || !top_.compare_exchange_strong */
             top = (got -> top + 1 : top); /*! crew/internal/tasks/deque.hpp: if (top > last || !top_.compare_exchange_strong */
           }
           STORE(0, SPLIT, last + 1)
        fi;
        if
        :: got -> take(own[last % ROOM])
        :: else -> skip
        fi
     fi
  od;
  over = true
}

proctype thief() {
  int seen, split, task;
  bool got;
  do
  :: over -> break
  :: else ->
     seen = top;
     split = mem[SPLIT];
     if
     :: seen < split ->
        task = mem[SLOT(seen)];
        atomic {
          got = true;
          got = (top == seen); /*! crew/internal/tasks/deque.hpp: if (!wanted(found) || !top_.compare_exchange_strong */
          top = (got -> top + 1 : top); /*! crew/internal/tasks/deque.hpp: if (!wanted(found) || !top_.compare_exchange_strong */
        }
        if
        :: got -> take(task)
        :: else -> skip
        fi
     :: else -> skip
     fi
  od;
  thieves_left--
}

active proctype whole() {
  byte k;
  run memory(0);
  run owner();
  for (k : 1 .. THIEVES) { run thief() }
  (over && thieves_left == 0);
  for (k : 0 .. TASKS - 1) { assert(taken[k] == 1) }
}
