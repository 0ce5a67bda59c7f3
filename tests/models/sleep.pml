/* Workers of a TaskCrew that have nothing to do, and those who make tasks public: no task is left
   while a worker sleeps that nobody keeps in a body.
   crew/internal/tasks/task_pool.cpp, task_worker.cpp. Few are woken at a time; who was called lowers the count before
   it looks. Tasks lie in one place here; the deque has a model of its own. */
#ifndef WORKERS
#define WORKERS 2
#endif
#define TASKS (5 - WORKERS)
#define MOST_WAKING 1
#define PROCESSES (WORKERS + 1)
#define VARIABLES 2
#define PUBLIC 0 /* how many were made public; taken ones are counted apart */
#include "memory.pml"

#define AWAKE 0
#define IDLE 1
#define CALLED 2
byte asleep[PROCESSES];
byte idle, waking, taken, blocked;

inline wake_idle() {
  do
  :: true ->
     atomic { may = (waking < MOST_WAKING); waking = (may -> waking + 1 : waking) };
     if
     :: !may -> break
     :: else -> skip
     fi;
     found = false;
     for (w : 1 .. WORKERS) {
       if
       :: !found && asleep[w] == IDLE ->
          atomic { found = (asleep[w] == IDLE); asleep[w] = (found -> CALLED : asleep[w]) };
          if
          :: found -> idle--; WAKE(w) /*! crew/internal/tasks/task_pool.cpp: wake_one(worker->asleep_); */
          :: else -> skip
          fi
       :: else -> skip
       fi
     }
     if
     :: found -> break
     :: else -> skip
     fi;
     waking--; /*! crew/internal/tasks/task_pool.cpp: waking_.fetch_sub(1, std::memory_order_seq_cst); */
     may = false;
     may = (idle > 0); /*! crew/internal/tasks/task_pool.cpp: } while (idle() > 0); */
     if
     :: may -> skip
     :: else -> break
     fi
  od
}

proctype caller() {
  byte task, w;
  bool may, found;
  for (task : 1 .. TASKS) {
    STORE(0, PUBLIC, task);
    FENCE(0); /*! crew/internal/tasks/deque.hpp: split_.store(bottom_, std::memory_order_seq_cst); */
    if
    :: idle > 0 -> wake_idle() /*! crew/internal/tasks/task_pool.cpp: if (idle() > 0) return wake_idle(); */
    :: else -> skip
    fi
  }
}

proctype worker(byte me) {
  byte w;
  bool may, found, got, sees, again;
  do
  :: true ->
     atomic { got = (taken < mem[PUBLIC]); taken = (got -> taken + 1 : taken) };
     if
     :: got ->
        /* see_to_others() */
        sees = (idle > 0 && taken < mem[PUBLIC]);
        if
        :: sees ->
           wake_idle() /*! crew/internal/tasks/task_worker.cpp: if (found) see_to_others(); */
        :: else -> skip
        fi;
        /* Its body may wait until the last task has been begun. */
        atomic { may = (blocked < WORKERS - 1); blocked = (may -> blocked + 1 : blocked) };
        if
        :: may ->
           if
           :: true -> (taken == TASKS)
           :: true -> skip
           fi;
           blocked--
        :: else -> skip
        fi
     :: else ->
        idle++; /*! crew/internal/tasks/task_worker.cpp: pool.asleep_.fetch_add(waiting ? TaskPool::one_waiting : TaskPool::one_idle, std::memory_order_seq_cst); */
        asleep[me] = IDLE;
        sees = false;
        sees = (taken < mem[PUBLIC]); /*! crew/internal/tasks/task_worker.cpp: if (leaving() || sees_anything()) { */
        if
        :: sees ->
           atomic {
             may = (asleep[me] == IDLE);
             asleep[me] = (may -> AWAKE : asleep[me]);
             idle = (may -> idle - 1 : idle)
           }
        :: else -> skip
        fi;
        again = true;
        do
        :: again ->
           atomic { if :: asleep[me] == IDLE -> sleeps[me] = true :: else -> skip fi };
end_sleep:
           (!sleeps[me]);
           again = false;
           again = (asleep[me] == IDLE) /*! crew/internal/tasks/task_worker.cpp: for (; how == idle || how == waits; how = asleep_.load */
        :: else -> break
        od;
        if
        :: asleep[me] == CALLED ->
           asleep[me] = AWAKE;
           waking-- /*! crew/internal/tasks/task_worker.cpp: pool.waking_.fetch_sub(1, std::memory_order_seq_cst); */
        :: else -> skip
        fi
     fi
  od
}

/* Holds whenever nothing moves any more. */
active proctype whole() {
  byte k;
  run memory(0);
  run caller();
  for (k : 1 .. WORKERS) { run worker(k) }
  (taken == TASKS)
}
