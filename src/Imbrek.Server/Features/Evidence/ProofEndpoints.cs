using Imbrek.Core.Objectives;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;

namespace Imbrek.Server.Features.Evidence;

/// <summary>By what the losses that were agreed are proven: sets restored, or a replica that took over.</summary>
internal static class ProofEndpoints
{
    /// <summary>How many databases are proven against a kind of loss, by what.</summary>
    /// <param name="ByRestore">Those whose proof that counts longest is a restore.</param>
    /// <param name="ByTakingOver">Those whose proof that counts longest is a replica that took over.</param>
    /// <param name="Failed">Those whose last proof did not pass, or counts no more.</param>
    /// <param name="Never">Those that were never proved.</param>
    public sealed record ProofKinds(LossKind Loss, int ByRestore, int ByTakingOver, int Failed, int Never);

    public static void Map(IEndpointRouteBuilder app) => app.MapGet("/api/proofs/kinds", Kinds).Needs(Roles.Look).Computes().WithName("ProofKinds");

    private static Ok<IReadOnlyList<ProofKinds>> Kinds(FleetState state, DesignedState designed, ProductClock clock, CancellationToken cancel)
    {
        var (fleet, now) = (state.Fleet, clock.ToldTo);
        var each = fleet.Databases.Where(d => state.Has(d.Id.Value)).AsParallel().WithCancellation(cancel).SelectMany(d => fleet.ObjectiveOf(d) is { } o
            ? o.Against.Select(l => (Loss: l, Standing: state[d.Id].Standing(l, now, designed)!))
            : []).ToArray();
        return TypedResults.Ok<IReadOnlyList<ProofKinds>>([.. each.GroupBy(e => e.Loss).OrderBy(g => g.Key).Select(g => new ProofKinds(
            g.Key,
            g.Count(e => e.Standing is { WhyNot: null, Proof.TookOver: false }),
            g.Count(e => e.Standing is { WhyNot: null, Proof.TookOver: true }),
            g.Count(e => e.Standing is { WhyNot: not null, Proof: not null }),
            g.Count(e => e.Standing.Proof is null)))]);
    }
}
