/* The end of a loop of a TaskCrew: its caller goes on when all credit is back, never before, and is woken for it.
   crew/internal/tasks/halving.cpp, task_worker.cpp. Ranges are shared out as tasks; a share of credit goes with each,
   and more is made where there is too little to share. */
#ifndef WORKERS
#define WORKERS 2 /* besides the caller */
#endif
#define RANGES 4
#define CREDIT 2 /* at first, and each time that there is more */
#define PROCESSES (WORKERS + 1)
#define VARIABLES 1
#include "memory.pml"

chan offered = [RANGES] of { byte, byte }; /* items, credit */
byte back, total = CREDIT, items_done;
bool waits, left;

inline share_out(items, credit) {
  do
  :: items > 1 ->
     if
     :: true ->
        if
        :: credit < 2 ->
           total = total + CREDIT; /*! crew/internal/tasks/halving.cpp: total_.fetch_add(more, std::memory_order_relaxed); */
           credit = credit + CREDIT
        :: else -> skip
        fi;
        offered!items / 2, credit / 2;
        credit = credit - credit / 2; /*! crew/internal/tasks/halving.cpp: credit -= half; */
        items = items - items / 2
     :: true -> break /* the rest is done here */
     fi
  :: else -> break
  od;
  assert(!left);
  items_done = items_done + items
}

/* back and total are two words: the total is read anew whenever somebody else was faster. */
inline give_back(credit) {
  seen = back;
  all = total;
  do
  :: true ->
     atomic {
       given = (back == seen);
       back = (given -> back + credit : back);
       seen = (given -> seen : back)
     }
     if
     :: given -> break
     :: else ->
        all = total /*! crew/internal/tasks/halving.cpp: total = total_.load(std::memory_order_relaxed); */
     fi
  od
}

proctype worker(byte me) {
  byte items, credit, seen, all;
  bool given;
end:
  do
  :: offered?items, credit ->
     share_out(items, credit);
     give_back(credit);
     if
     :: seen + credit == all ->
        /* tell(owner) */
        if
        :: waits ->
           waits = false;
           WAKE(0) /*! crew/internal/tasks/task_worker.cpp: if (how == waits) owner->pool.wake(*owner, waits); */
        :: else -> skip
        fi
     :: else -> skip
     fi
  od
}

proctype caller() {
  byte items = RANGES;
  byte credit = CREDIT;
  byte seen, all;
  bool given, over;
  share_out(items, credit);
  give_back(credit);
  if
  :: seen + credit == all -> skip
  :: else ->
     do
     :: back == total -> break
     :: offered?items, credit -> share_out(items, credit); give_back(credit)
     :: true ->
        waits = true;
        over = false;
        over = (back == total); /*! crew/internal/tasks/task_pool.hpp: if (done()) { */
        if
        :: over -> waits = false
        :: else -> atomic { if :: waits -> sleeps[0] = true :: else -> skip fi }; (!sleeps[0])
        fi
     od
  fi;
  left = true;
  assert(items_done == RANGES)
}

active proctype whole() {
  byte k;
  run caller();
  for (k : 1 .. WORKERS) { run worker(k) }
  (left)
}
