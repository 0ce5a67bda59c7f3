/* A region of a ThreadCrew of few workers: all do their part once, none is left asleep, the caller goes on when all
   have ended. crew/internal/threads/team.cpp */
#ifndef WORKERS
#define WORKERS 2 /* besides the caller */
#endif
#define REGIONS 2
#define PROCESSES (WORKERS + 1)
#define VARIABLES 4
#define JOB 0
#define TARGET 1
#define REGION 2
#define JOINER 3
#include "memory.pml"

byte sleepers, ended, done[PROCESSES];

inline wake_sleepers() {
  atomic {
    for (w : 1 .. WORKERS) { WAKE(w) }
  }
}

proctype caller() {
  byte region, w;
  byte target = 0;
  for (region : 1 .. REGIONS) {
    target = target + WORKERS;
    STORE(0, JOB, region);
    STORE(0, TARGET, target);
    STORE(0, REGION, region);
    if
    :: sleepers > 0 -> wake_sleepers()
    :: else -> skip
    fi;
    /* join() */
    if
    :: ended == target -> skip /* seen while it looked */
    :: true ->
       FENCE(0); /*! crew/internal/threads/team.cpp: region_.fetch_add(0, std::memory_order_seq_cst); */
       if
       :: sleepers > 0 ->
          wake_sleepers() /*! crew/internal/threads/team.cpp: if (sleepers_.load(std::memory_order_seq_cst) > 0) wake_sleepers(); */
       :: else -> skip
       fi;
       STORE(0, JOINER, 1);
       FENCE(0); /*! crew/internal/threads/team.cpp: joiner_sleeps_.store(true, std::memory_order_seq_cst); */
       do
       :: ended == target -> break 
       :: ended != target -> SLEEP_WHILE(0, ended != target)
       od;
       STORE(0, JOINER, 0)
    fi;
    for (w : 1 .. WORKERS) { assert(done[w] == region) }
  }
}

proctype worker(byte me) {
  byte seen, target, now;
  for (seen : 0 .. REGIONS - 1) {
    if
    :: mem[REGION] != seen -> skip /* seen while it looked */
    :: true ->
       sleepers++; /*! crew/internal/threads/team.cpp: sleepers_.fetch_add(1, std::memory_order_seq_cst); */
       do
       :: mem[REGION] != seen -> break
       :: else -> SLEEP_WHILE(me, mem[REGION] == seen)
       od;
       sleepers = (sleepers > 0 -> sleepers - 1 : 0)
    fi;
    assert(mem[REGION] == seen + 1);
    assert(mem[JOB] == seen + 1);
    done[me]++;
    target = mem[TARGET];
    atomic { ended++; now = ended };
    if
    :: now == target && mem[JOINER] -> WAKE(0) /*! crew/internal/threads/team.cpp: if (ended == target && joiner_sleeps_ */
    :: else -> skip
    fi
  }
}

active proctype whole() {
  byte k;
  run memory(0);
  run caller();
  for (k : 1 .. WORKERS) { run worker(k) }
}
