// Everyday names that a program has for itself, beside everything of Ant Crew.
#include <antcrew/antcrew.hpp>
#include <string>
#include <vector>

using namespace antcrew;

// clang-format off
struct Account {}; struct Action {}; struct Agent {}; struct Analysis {}; struct Answer {}; struct Area {}; struct Array {};
struct Batch {}; struct Block {}; struct Board {}; struct Body {}; struct Box {}; struct Buffer {}; struct Build {};
struct Cache {}; struct Call {}; struct Cell {}; struct Channel {}; struct Chunk {}; struct Clock {}; struct Config {};
struct Counter {}; struct Data {}; struct Day {}; struct Depth {}; struct Edge {}; struct Entry {}; struct Estimate {};
struct Event {}; struct Fault {}; struct Field {}; struct Figure {}; struct File {}; struct Frame {}; struct Graph {};
struct Grid {}; struct Group {}; struct Host {}; struct Input {}; struct Item {}; struct Items {}; struct Job {};
struct Journal {}; struct Key {}; struct Lane {}; struct Layer {}; struct Level {}; struct Limits {}; struct Line {};
struct List {}; struct Lock {}; struct Log {}; struct Machine {}; struct Matrix {}; struct Message {}; struct Model {};
struct Node {}; struct Order {}; struct Pair {}; struct Part {}; struct Particle {}; struct Point {}; struct Pool {};
struct Position {}; struct Progress {}; struct Queue {}; struct Reading {}; struct Record {}; struct Reference {};
struct Result {}; struct Round {}; struct Row {}; struct Sample {}; struct Scale {}; struct Session {}; struct Settings {};
struct Shape {}; struct Slot {}; struct Stage {}; struct State {}; struct Station {}; struct Step {}; struct Stop {};
struct Table {}; struct Text {}; struct Thread {}; struct Time {}; struct Token {}; struct Topology {}; struct Tree {};
struct Trial {}; struct Unit {}; struct Usage {}; struct Value {}; struct Vector {}; struct Verdict {}; struct Visit {};
struct Visitor {}; struct Wave {}; struct Window {}; struct Worker {}; struct World {};
template <class... Names> void used(Names...) {}
void report() {}
void record() {}
int machine = 1;
int analysis = 2;
int study = 3;
int share = 4;
int base = 5;
int crew = 6;
int algorithm = 7;
int joined = 8;
int printable = 9;
int parse_count = 10;
int duration_text = 11;
int text_hash = 12;
int nearest_word = 13;
int type_name = 14;
int bad_input = 15;
struct TimeUnit {};
struct Thrown {};

int main(int argc, char** argv) {
  used(Account(), Action(), Agent(), Analysis(), Answer(), Area(), Array(), Batch(), Block(), Board(), Body(), Box(),
       Buffer(), Build(), Cache(), Call(), Cell(), Channel(), Chunk(), Clock(), Config(), Counter(), Data(), Day(), Depth(),
       Edge(), Entry(), Estimate(), Event(), Fault(), Field(), Figure(), File(), Frame(), Graph(), Grid(), Group(), Host(),
       Input(), Item(), Items(), Job(), Journal(), Key(), Lane(), Layer(), Level(), Limits(), Line(), List(), Lock(), Log(),
       Machine(), Matrix(), Message(), Model(), Node(), Order(), Pair(), Part(), Particle(), Point(), Pool(), Position(),
       Progress(), Queue(), Reading(), Record(), Reference(), Result(), Round(), Row(), Sample(), Scale(), Session(),
       Settings(), Shape(), Slot(), Stage(), State(), Station(), Step(), Stop(), Table(), Text(), Thread(), Time(), Token(),
       Topology(), Tree(), Trial(), Unit(), Usage(), Value(), Vector(), Verdict(), Visit(), Visitor(), Wave(), Window(),
       Worker(), World());
  report();
  record();
  used(machine, analysis, study, share, base, crew, algorithm, joined, printable, parse_count, duration_text, text_hash,
       nearest_word, type_name, bad_input, TimeUnit(), Thrown());
  Study sums("Sums", [](std::size_t n) { return std::vector<int>(n, 1); }, [](const std::vector<int>& in) { return in.size(); });
  sums.sizes({10});
  sums.variant<ThreadCrew>("counted", [](const auto& in, auto& workers) {
    return workers.fold(in.size(), std::size_t{0}, [](Range r) { return r.size(); }, std::plus<>());
  });
  return study_main(argc, argv, sums);
}
