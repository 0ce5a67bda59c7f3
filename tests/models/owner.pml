/* A container that one thread fills without a lock, until others come: nobody is inside with the owner, and all come
   in. share/internal/sole_owner.hpp, sole_owner.cpp. The owner's store and load may change places in the processor;
   the kernel's barrier, which a newcomer asks for, empties the owner's queue. */
#ifndef NEWCOMERS
#define NEWCOMERS 2
#endif
#define TIMES 2
#define PROCESSES (NEWCOMERS + 1)
#define VARIABLES 1
#define INSIDE 0
#include "memory.pml"

#define NOBODY 0
#define OWNED 1
#define HANDING_OVER 2
#define SHARED 3
byte owner = NOBODY;
bool locked;
byte within;

inline with_lock() {
  atomic { !locked -> locked = true };
  within++;
  assert(within == 1);
  within--;
  locked = false
}

inline share() {
  atomic {
    mine = (owner != SHARED && owner != HANDING_OVER);
    over = (owner == SHARED);
    owner = (mine -> HANDING_OVER : owner) /*! share/internal/sole_owner.cpp: if (owner_.compare_exchange_weak(seen, handing_over */
  }
  if
  :: !over ->
     (len(queue[0]) == 0); /*! share/internal/sole_owner.cpp: barrier_everywhere(); */
     (mem[INSIDE] == 0); /*! share/internal/sole_owner.cpp: for (int look = 0; inside_.load(std::memory_order_seq_cst); ++look) { */
     owner = SHARED
  :: else -> skip
  fi
}

/* The first that comes. */
proctype first() {
  byte time;
  bool mine, over, in;
  for (time : 1 .. TIMES) {
    in = false;
    if
    :: owner == SHARED -> skip
    :: owner != SHARED ->
       atomic { mine = (owner == NOBODY || owner == OWNED); owner = (owner == NOBODY -> OWNED : owner) };
       if
       :: mine ->
          STORE(0, INSIDE, 1);
          in = true;
          in = (owner == OWNED); /*! share/internal/sole_owner.hpp: if (owner_.load(owners_order) == me) return true; */
          if
          :: in ->
             within++;
             assert(within == 1);
             within--;
             STORE(0, INSIDE, 0)
          :: else ->
             STORE(0, INSIDE, 0); /*! share/internal/sole_owner.hpp: leave(); */
             share()
          fi
       :: else -> share()
       fi
    fi;
    if
    :: in -> skip
    :: else -> with_lock()
    fi
  }
}

proctype newcomer(byte me) {
  bool mine, over;
  if
  :: owner == NOBODY -> skip /* it would be the owner */
  :: owner == SHARED -> with_lock()
  :: else -> share(); with_lock()
  fi
}

active proctype whole() {
  byte k;
  run memory(0);
  run first();
  for (k : 1 .. NEWCOMERS) { run newcomer(k) }
}
