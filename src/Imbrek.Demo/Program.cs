using Imbrek.Demo;
using Imbrek.PostgreSql.Serving;
using Imbrek.Server;

// Either a simulated world is the guest, or nobody but a workload on real clusters.
IGuest guest = ClusterDemo.IsAskedFor(args) ? new ClusterDemo(args) : new DemoGuest(args);
return await ImbrekServer.RunAsync(args, [new PostgreSqlEngine()], guest);
