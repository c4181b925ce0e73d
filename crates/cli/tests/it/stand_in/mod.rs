mod serve;
