mod add;
