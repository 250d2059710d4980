using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Routing;
using Microsoft.Extensions.DependencyInjection;

namespace Imbrek.PostgreSql.Serving;

/// <summary>The family of real PostgreSQL clusters, as an installation loads it.</summary>
internal sealed class PostgreSqlEngine : IEngineFamily
{
    /// <inheritdoc/>
    public void Add(IServiceCollection services, bool describing)
    {
        services.AddSingleton<ClusterBook>();
        services.AddSingleton<PostgreSqlFamily>();
        services.AddSingleton<IDriverFamily>(s => s.GetRequiredService<PostgreSqlFamily>());
        services.AddSingleton<IFindingSource, ClusterFindings>();
        services.AddSingleton<IDiscoverDriver<ClusterSpec>, PostgreSqlDiscovery>();
        services.AddSingleton<NewCluster>();
        services.AddSingleton<NewStandby>();
        services.AddSingleton<StandbyWatch>();
        services.AddSingleton<LogDuty>();
        if (!describing)
        {
            services.AddHostedService(s => s.GetRequiredService<LogDuty>());
        }
    }

    /// <inheritdoc/>
    public void Map(IEndpointRouteBuilder app) => ClusterEndpoints.Map(app);

    /// <inheritdoc/>
    public Task PrepareAsync(IServiceProvider services, CancellationToken cancel) => services.GetRequiredService<ClusterBook>().LoadAsync(cancel);
}
