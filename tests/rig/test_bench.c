#include "suite.h"
int main(void)
{
    return 0;
}
