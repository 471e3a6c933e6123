DROP TABLE events; DROP TABLE jobs; DROP TABLE runs; DROP TABLE changes; DROP TABLE facts;
DROP TABLE measurements; DROP TABLE takes; DROP TABLE recordings; DROP TABLE instruments;
