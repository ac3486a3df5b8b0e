/* Message passing, as programs on clusters do it: in each of ROUNDS rounds
 * every rank sends a number to every other and adds up what has come. Rank 0
 * prints one line: how many ranks there were, their common result, and the time
 * that the rounds took, in microseconds.
 *
 *   mpicc -O2 -o swell swell.c */
#include <mpi.h>
#include <stdio.h>
#include <stdlib.h>

static unsigned long pass(int rank, int ranks, int rounds, int *out, int *in)
{
	unsigned long sum = 0;

	for (int round = 0; round < rounds; round++) {
		for (int i = 0; i < ranks; i++)
			out[i] = round * 31 + rank * 7 + i;
		MPI_Alltoall(out, 1, MPI_INT, in, 1, MPI_INT, MPI_COMM_WORLD);
		for (int i = 0; i < ranks; i++)
			sum = sum * 33 + (unsigned long)in[i];
	}
	return sum;
}

int main(int argc, char **argv)
{
	int rounds = argc > 1 ? atoi(argv[1]) : 1000, rank, ranks;
	unsigned long sum, all = 0;
	int *out, *in;
	double begin, took;

	MPI_Init(&argc, &argv);
	MPI_Comm_rank(MPI_COMM_WORLD, &rank);
	MPI_Comm_size(MPI_COMM_WORLD, &ranks);
	out = calloc((size_t)ranks * 2, sizeof(*out));
	in = out + ranks;
	pass(rank, ranks, 100, out, in);
	MPI_Barrier(MPI_COMM_WORLD);
	begin = MPI_Wtime();
	sum = pass(rank, ranks, rounds, out, in);
	MPI_Barrier(MPI_COMM_WORLD);
	took = MPI_Wtime() - begin;
	MPI_Reduce(
		&sum, &all, 1, MPI_UNSIGNED_LONG, MPI_BXOR, 0, MPI_COMM_WORLD);
	if (rank == 0)
		printf("%d ranks: %016lx in %.0f us\n", ranks, all, took * 1e6);
	free(out);
	MPI_Finalize();
	return 0;
}
