/* Whoever wakes a sleeper narrows its set of processors, the sleeper puts it back: nobody leaves a set narrowed, and
   nobody changes the set of one who is up. machine/wake_placement.hpp, wake_placement.cpp */
#define PROCESSES 2
#define SLEEPER 0
#define WAKER 1
#define VARIABLES 1
#define SLEPT_ON 0 /* 1: lies on a processor; 0: is up */
#include "memory.pml"

#define TIMES 2
#define FREE 0
#define TAKING 1
#define TAKEN 2
byte room;
bool narrowed, up = true;

proctype sleeper() {
  byte time;
  for (time : 1 .. TIMES) {
    up = false;
    STORE(SLEEPER, SLEPT_ON, 1);
    STORE(SLEEPER, SLEPT_ON, 0);
    FENCE(SLEEPER); /*! machine/wake_placement.hpp: slept_on_.store(-1, std::memory_order_seq_cst); */
    if
    :: room != FREE ->
       (room != TAKING); /*! machine/wake_placement.cpp: room_.load(std::memory_order_acquire) == Room::taking */
       if
       :: room == TAKEN ->
          narrowed = false; /*! machine/wake_placement.cpp: if (read_processors(0, now) && still(narrowed_, now)) give_back(before_, had_all_); */
          room = FREE
       :: else -> skip
       fi
    :: else -> skip
    fi;
    up = true;
    assert(!narrowed)
  }
}

proctype waker() {
  byte time;
  bool lies, mine;
  for (time : 1 .. TIMES + 1) {
    atomic {
      mine = true;
      mine = (room == FREE); /*! machine/wake_placement.cpp: if (!room_.compare_exchange_strong(seen, Room::taking */
      room = (mine -> TAKING : room)
    }
    if
    :: mine ->
       lies = true;
       lies = mem[SLEPT_ON]; /*! machine/wake_placement.cpp: const bool lies = slept_on_.load(std::memory_order_seq_cst) >= 0; */
       if
       :: lies -> assert(!up); narrowed = true; room = TAKEN
       :: else -> room = FREE
       fi
    :: else -> skip
    fi
  }
}

active proctype whole() {
  run memory(SLEEPER);
  run sleeper();
  run waker();
  (_nr_pr == 2);
  assert(!narrowed)
}
