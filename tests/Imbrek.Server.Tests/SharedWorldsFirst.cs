using Xunit;
using Xunit.Sdk;
using Xunit.v3;

// Tests wait more than they compute: for processes that were killed to come back, and for hours of a world to pass.
[assembly: Parallelization(MaxThreads = 3)]
[assembly: TestCollectionOrderer(typeof(Imbrek.Server.Tests.SharedWorldsFirst))]

namespace Imbrek.Server.Tests;

/// <summary>Those that share a world come first: each goes through its tests one after another, and nothing waits for the last of them alone.</summary>
public sealed class SharedWorldsFirst : ITestCollectionOrderer
{
    /// <inheritdoc/>
    public IReadOnlyCollection<TTestCollection> OrderTestCollections<TTestCollection>(IReadOnlyCollection<TTestCollection> testCollections)
        where TTestCollection : ITestCollection =>
        [.. testCollections.OrderBy(c => c.TestCollectionClassName is null)];
}
