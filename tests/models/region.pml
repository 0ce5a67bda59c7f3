/* Regions of a ThreadCrew, of all workers and of the first one only: all who take part do so once, the others not at
   all, none is left asleep, the caller goes on when all have ended. crew/internal/threads/team.cpp */
#ifndef WORKERS
#define WORKERS 2 /* besides the caller */
#endif
#define REGIONS 3
#define IS_CALL(region) ((region) == 2) /* for worker 1 alone */
#define PROCESSES (WORKERS + 1)
#define VARIABLES 5
#define JOB 0
#define TARGET 1
#define REGION 2
#define JOINER 3
#define CALLS 4 /* of worker 1 */
#include "memory.pml"

byte sleepers, ended, done[PROCESSES];
bool asleep[PROCESSES];
byte through[PROCESSES]; /* when it fell asleep: the last region of all that it took part in */

inline wake(w) {
  if
  :: asleep[w] ->
     atomic { was = asleep[w]; asleep[w] = false };
     if
     :: was -> WAKE(w)
     :: else -> skip
     fi
  :: else -> skip
  fi
}

inline wake_sleepers() {
  for (w : 1 .. WORKERS) {
    if
    :: asleep[w] && through[w] != number -> wake(w)
    :: else -> skip
    fi
  }
}

proctype caller() {
  byte region, w;
  byte target = 0;
  byte number = 0;
  bool was;
  for (region : 1 .. REGIONS) {
    target = target + (IS_CALL(region) -> 1 : WORKERS);
    STORE(0, JOB, region);
    STORE(0, TARGET, target);
    if
    :: IS_CALL(region) ->
       STORE(0, CALLS, 1);
       FENCE(0); /*! crew/internal/threads/team.cpp: post_of(next).calls.fetch_add(1, std::memory_order_seq_cst); */
       wake(1) /*! crew/internal/threads/team.cpp: if (wake(next)) ++woken; */
    :: else ->
       number++;
       STORE(0, REGION, number);
       if
       :: sleepers > 0 -> wake_sleepers()
       :: else -> skip
       fi
    fi;
    /* join() */
    if
    :: ended == target -> skip /* seen while it looked */
    :: true ->
       if
       :: IS_CALL(region) -> skip
       :: else ->
          FENCE(0); /*! crew/internal/threads/team.cpp: region_.fetch_add(0, std::memory_order_seq_cst); */
          if
          :: sleepers > 0 ->
             wake_sleepers() /*! crew/internal/threads/team.cpp: if (sleepers_.load(std::memory_order_seq_cst) > 0) wake_sleepers(); */
          :: else -> skip
          fi
       fi;
       STORE(0, JOINER, 1);
       FENCE(0); /*! crew/internal/threads/team.cpp: joiner_sleeps_.store(true, std::memory_order_seq_cst); */
       do
       :: ended == target -> break
       :: ended != target -> SLEEP_WHILE(0, ended != target)
       od;
       STORE(0, JOINER, 0)
    fi;
    for (w : 1 .. WORKERS) { assert(done[w] == (w == 1 -> region : number)) }
  }
}

#define CHANGED (mem[REGION] != seen || (me == 1 && mem[CALLS] != calls))

proctype worker(byte me) {
  byte seen, calls, target, now;
  bool look;
  do
  :: seen + calls == (me == 1 -> REGIONS : REGIONS - 1) -> break
  :: else ->
    if
    :: CHANGED -> skip /* seen while it looked */
    :: true ->
       sleepers++; /*! crew/internal/threads/team.cpp: sleepers_.fetch_add(1, std::memory_order_seq_cst); */
       through[me] = seen;
       do
       :: true ->
          asleep[me] = true;
          look = true;
          look = !CHANGED; /*! crew/internal/threads/team.cpp: if (!changed(std::memory_order_seq_cst)) sleep_while(post.asleep, 1); */
          if
          :: look -> SLEEP_WHILE(me, asleep[me])
          :: else -> skip
          fi;
          if
          :: CHANGED -> break
          :: else -> skip
          fi
       od;
       asleep[me] = false;
       sleepers = (sleepers > 0 -> sleepers - 1 : 0)
    fi;
    if
    :: me == 1 && mem[CALLS] != calls ->
       calls++;
       assert(mem[JOB] == 2)
    :: else ->
       seen++;
       assert(mem[REGION] == seen);
       assert(mem[JOB] == (seen == 1 -> 1 : 3))
    fi;
    done[me]++;
    target = mem[TARGET];
    atomic { ended++; now = ended };
    if
    :: now == target && mem[JOINER] -> WAKE(0) /*! crew/internal/threads/team.cpp: if (ended == target && joiner_sleeps_ */
    :: else -> skip
    fi
  od
}

active proctype whole() {
  byte k;
  run memory(0);
  run caller();
  for (k : 1 .. WORKERS) { run worker(k) }
}
