/* Memory as processors with store buffers show it: a store waits in a queue of its own, and reaches the others later,
   in order. A fence lasts until the queue is empty; a step that reads and writes at once begins with one. Each
   variable that is stored to so has one writer at a time. Orders weaker than this are argued in the sources. */
#define STORE(p, v, x) queue[p]!v, x
#define FENCE(p) (len(queue[p]) == 0)

int mem[VARIABLES];
chan queue[PROCESSES] = [2] of { byte, int };

proctype memory(byte p) {
  byte v;
  int x;
end:
  do
  :: atomic { queue[p]?v, x -> mem[v] = x }
  od
}

/* The kernel's sleep: compares and falls asleep in one step. Who is woken looks again. */
bool sleeps[PROCESSES];
#define SLEEP_WHILE(p, same) atomic { if :: same -> sleeps[p] = true :: else -> skip fi }; (!sleeps[p])
#define WAKE(p) sleeps[p] = false
