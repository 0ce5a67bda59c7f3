/* Many workers: the caller wakes the leader of a squad, the leader its member. Whoever publishes a number looks whether
   the other sleeps; whoever goes to sleep says so, and looks at the number again. crew/internal/threads/team.cpp */
#define REGIONS 3
#define PROCESSES 3
#define CALLER 0
#define LEADER 1
#define MEMBER 2
#define VARIABLES 3
#define NUMBER(w) ((w) - 1) /* what the worker looks at: the caller's number, or its squad's */
#include "memory.pml"

bool asleep[PROCESSES];
byte here, ended, done[PROCESSES];

inline wake(w) {
  if
  :: asleep[w] ->
     atomic { was = asleep[w]; asleep[w] = false };
     if
     :: was -> WAKE(w) /*! crew/internal/threads/team.cpp: wake_one(post.asleep); */
     :: else -> skip
     fi
  :: else -> skip
  fi
}

proctype caller() {
  byte region;
  bool was;
  for (region : 1 .. REGIONS) {
    STORE(CALLER, NUMBER(LEADER), region);
    FENCE(CALLER); /*! crew/internal/threads/team.cpp: region_.store(number, std::memory_order_seq_cst); */
    wake(LEADER);
    (ended == region); /* join(), see region.pml */
    assert(done[LEADER] == region && done[MEMBER] == region)
  }
}

proctype worker(byte me) {
  byte seen, now;
  bool was, look;
  for (seen : 0 .. REGIONS - 1) {
    if
    :: mem[NUMBER(me)] != seen -> skip
    :: true ->
       do
       :: true ->
          asleep[me] = true;
          look = true;
          look = (mem[NUMBER(me)] == seen); /*! crew/internal/threads/team.cpp: if (!changed(std::memory_order_seq_cst)) sleep_while(post.asleep, 1); */
          if
          :: look -> SLEEP_WHILE(me, asleep[me])
          :: else -> skip
          fi;
          if
          :: mem[NUMBER(me)] == seen -> skip
          :: else -> break
          fi
       od;
       asleep[me] = false
    fi;
    if
    :: me == LEADER ->
       STORE(LEADER, NUMBER(MEMBER), seen + 1);
       FENCE(LEADER); /*! crew/internal/threads/team.cpp: squad_of(worker).region.store(seen.regions, std::memory_order_seq_cst); */
       wake(MEMBER)
    :: else -> skip
    fi;
    done[me]++;
    atomic { here++; now = here };
    if
    :: now % 2 == 0 -> ended++ /*! crew/internal/threads/team.cpp: if (here % static_cast<std::uint64_t>(size) != 0) return; */
    :: else -> skip
    fi
  }
}

active proctype whole() {
  run memory(CALLER);
  run memory(LEADER);
  run caller();
  run worker(LEADER);
  run worker(MEMBER)
}
